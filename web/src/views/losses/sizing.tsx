/** How much is enough: what one wants to survive, and what that needs, each with its evidence and a way to adopt it. */
import { useState, type FormEvent, type ReactNode } from "react";

import type { Schemas } from "../../api/client";
import { amount, percent, seconds } from "../../kit/format";
import { Button } from "../../kit/parts";
import { useEdit, type Operation } from "../../plan/edit";
import { useSizing } from "../../plan/judging";
import { readSizingSearch, SURVIVED, type SizingSearch } from "../../plan/searches";
import { usePlan } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { Head } from "./head";
import { useRoute } from "../../plan/route";

const BOX = "min-h-7 rounded border border-line-strong bg-panel px-2";
const CALLED: Record<(typeof SURVIVED)[number], string> = { zone: "zone", region: "region", instance: "instance", fault_domain: "fault domain" };

export function SizingView() {
  const { params: { key }, search: said } = useRoute("/plans/:key/sizing");
  const search = readSizingSearch({ ...said });
  const plan = usePlan(key);
  const sizing = useSizing({ key, revision: plan.data?.head.revision }, search);
  const error = plan.error ?? sizing.error;
  return (
    <main id="main" className="min-w-0 flex-1 overflow-y-auto px-4 pt-4 pb-24 sm:px-7" aria-label="How much is enough">
      <Head planKey={key} way="how much is enough" />
      <Question key={JSON.stringify(search)} search={search} />
      {error && <Trouble error={error} />}
      {!error && !sizing.data && <p className="mt-4 text-ink-soft" role="status">Trying one number after the other …</p>}
      {sizing.data && <Answer planKey={key} answer={sizing.data} />}
    </main>
  );
}

/** The question as a sentence with gaps. */
function Question({ search }: { search: SizingSearch }) {
  const { say } = useRoute("/plans/:key/sizing");
  const [survive, setSurvive] = useState(search.survive);
  const [below, setBelow] = useState(String(Math.round(search.below * 1000) / 10));
  const [failed, setFailed] = useState(search.failed === undefined ? "" : String(search.failed));
  const [surge, setSurge] = useState(search.surge === undefined ? "" : String(search.surge));
  const send = (event: FormEvent) => {
    event.preventDefault();
    const number = (text: string) => (text.trim() !== "" && Number.isFinite(Number(text)) ? Number(text) : undefined);
    say({ survive, below: (number(below) ?? 85) / 100, failed: number(failed), surge: number(surge) });
  };
  return (
    <form className="flex flex-wrap items-center gap-x-2 gap-y-2" onSubmit={send}>
      <span>After the loss of any one</span>
      <select aria-label="What may be lost" className={BOX} value={survive} onChange={(event) => setSurvive(SURVIVED.find((one) => one === event.target.value) ?? "zone")}>
        {SURVIVED.map((one) => <option key={one} value={one}>{CALLED[one]}</option>)}
      </select>
      <span>all targets stay below</span>
      <input aria-label="Utilisation in per cent" inputMode="decimal" className={`${BOX} w-16 text-right`} value={below} onChange={(event) => setBelow(event.target.value)} />
      <span>%, at most</span>
      <input aria-label="Failed requests at most" inputMode="numeric" placeholder="any" className={`${BOX} w-24 text-right`} value={failed} onChange={(event) => setFailed(event.target.value)} />
      <span>requests fail, and autoscaled fleets absorb</span>
      <input aria-label="How many times as much clients ask" inputMode="decimal" placeholder="no" className={`${BOX} w-14 text-right`} value={surge} onChange={(event) => setSurge(event.target.value)} />
      <span>times the load.</span>
      <Button type="submit" tone="main">Size it</Button>
    </form>
  );
}

function Answer({ planKey, answer }: { planKey: string; answer: Schemas["SizingAnswer"] }) {
  const nothing = answer.sizes.length + answer.probes.length + answer.ttls.length + answer.minimums.length === 0;
  return (
    <div className="mt-5 grid max-w-5xl gap-6" data-testid="sizing">
      {nothing && <p className="text-ink-soft">There is nothing to size: no fleet is in use.</p>}
      {answer.sizes.length > 0 && (
        <Sized title="Instances" heads={["fleet", "zone", "now", "needed", "without a loss", "decided by", "stays unserved"]}>
          {answer.sizes.map((one, place) => {
            const first = answer.sizes.findIndex((other) => other.fleet === one.fleet) === place;
            return (
              <Line key={`${one.fleet} ${one.zone}`} planKey={planKey} patch={first ? one.patch : []} called={`${one.fleet} as needed`}>
                {[first ? one.fleet : "", one.zone, String(one.now), one.needed === null ? "no number is enough" : <b key="needed" className={one.needed > one.now ? "font-semibold text-vermilion-text" : one.needed < one.now ? "font-semibold text-moss" : "font-normal"}>{one.needed}</b>, percent(one.utilisation), `${lostWords(one.evidence.lost)}: ${percent(one.evidence.peak_utilisation)}`, first ? stays(one.unserved) : ""]}
              </Line>
            );
          })}
        </Sized>
      )}
      {answer.zones.length > 0 && (
        <Sized title="Zones" heads={["fleet", "zones now", "needed", "instances now", "with so few zones"]}>
          {answer.zones.map((one) => (
            <Line key={one.fleet} planKey={planKey} patch={one.patch} called={`zones of ${one.fleet} as needed`}>
              {[one.fleet, String(one.now), one.needed === null ? "all are not enough" : String(one.needed), String(one.instances_now), one.instances === null ? "" : String(one.instances)]}
            </Line>
          ))}
        </Sized>
      )}
      {answer.probes.length > 0 && (
        <Sized title="Probes" heads={["probe", "longest interval", "out after", "fails then", "decided by"]}>
          {answer.probes.map((one) => (
            <Line key={one.probe} planKey={planKey} patch={one.patch} called={`probe ${one.probe} as needed`}>
              {[one.probe, longest(one.interval_s, one.decides), one.interval_s === null || !one.decides ? "" : `${one.unhealthy_after} fails`, amount(one.failed), lostWords(one.evidence)]}
            </Line>
          ))}
        </Sized>
      )}
      {answer.ttls.length > 0 && (
        <Sized title="Names" heads={["name", "longest TTL", "fails then", "decided by"]}>
          {answer.ttls.map((one) => (
            <Line key={one.name} planKey={planKey} patch={one.patch} called={`${one.name} as needed`}>
              {[one.name, longest(one.ttl_s, one.decides), amount(one.failed), lostWords(one.evidence)]}
            </Line>
          ))}
        </Sized>
      )}
      {answer.minimums.length > 0 && (
        <Sized title="Minimums of autoscaled fleets" heads={["fleet", "now", "needed", "fails now", "fails then"]}>
          {answer.minimums.map((one) => (
            <Line key={one.fleet} planKey={planKey} patch={one.patch} called={`minimum of ${one.fleet} as needed`}>
              {[one.fleet, String(one.now), one.needed === null ? "no number is enough" : String(one.needed), amount(one.failed_now), amount(one.failed)]}
            </Line>
          ))}
        </Sized>
      )}
    </div>
  );
}

function longest(found_s: number | null, decides: boolean): string {
  if (!decides) return "does not decide";
  return found_s === null ? "none is short enough" : seconds(found_s);
}

/** The share of all that is asked that the worst loss leaves unserved. */
function stays(unserved: number): ReactNode {
  return unserved < 5e-7 ? "none" : <span className="text-vermilion-text">{percent(unserved)}</span>;
}

function Sized({ title, heads, children }: { title: string; heads: string[]; children: ReactNode }) {
  return (
    <section aria-label={title} className="relative overflow-x-auto" tabIndex={0}>
      <h2 className="border-b border-line pb-1 font-semibold">{title}</h2>
      <table className="w-full text-left tabular-nums">
        <thead className="text-[11px] text-ink-soft">
          <tr>
            {heads.map((one) => <th key={one} scope="col" className="py-1 pr-4 font-normal whitespace-nowrap">{one}</th>)}
            <th scope="col"><span className="sr-only">adopt it</span></th>
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </section>
  );
}

function Line({ planKey, patch, called, children }: { planKey: string; patch: Record<string, unknown>[]; called: string; children: ReactNode[] }) {
  const { edit } = useEdit(planKey);
  return (
    <tr className="border-t border-dotted border-line align-baseline">
      {children.map((one, place) => <td key={place} className={`py-1 pr-4 ${place === 0 ? "font-medium" : ""}`}>{one}</td>)}
      <td className="text-right">
        {patch.length > 0 && <Button disabled={edit.isPending} aria-label={`Adopt ${called}`} onClick={() => edit.mutate(patch as unknown as Operation[])}>Adopt</Button>}
        {edit.error && <span className="block text-vermilion-text" role="alert">{edit.error.message}</span>}
      </td>
    </tr>
  );
}

/** What is lost where it decides, in words. */
function lostWords(part: Record<string, unknown> | null): string {
  return part === null ? "no loss" : `${Object.keys(part)[0]?.replaceAll("_", " ") ?? ""} ${String(Object.values(part)[0])} lost`;
}
