/** Usual changes, ready-made: what each asks for as a sentence with gaps, and what it comes to beside all at once. */
import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";

import type { Schemas } from "../../api/client";
import { amount, clock, span } from "../../kit/format";
import { Button, Skeleton } from "../../kit/parts";
import { Working } from "../../kit/working";
import { useUsual, useUsualChanges, useUsualMoment, useUsualProgress, type Usually } from "../../plan/deciding";
import { useEdit, type Operation } from "../../plan/edit";
import type { CompareSearch } from "../../plan/searches";
import { answerKey, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { BoardThen, Rehearsed, type MomentProps } from "./rehearsed";
import { useNavigate, useRoute } from "../../plan/route";

type Change = Schemas["UsualChange"];

export function UsualChanges({ asked, search }: { asked: Asked; search: CompareSearch }) {
  const changes = useUsualChanges(asked);
  if (changes.error) return <Trouble error={changes.error} />;
  if (!changes.data) return <Skeleton className="h-40" />;
  const chosen: Usually | undefined = search.usual ? { code: search.usual, said: search.said ?? [] } : undefined;
  return (
    <div data-testid="usual">
      {changes.data.length === 0 && <p className="text-ink-soft">Nothing can be changed yet: the plan has no targets.</p>}
      <ul className="mb-6 max-w-6xl">
        {changes.data.map((one) => <Offer key={`${one.code} ${one.code === chosen?.code ? chosen.said.join() : ""}`} change={one} chosen={one.code === chosen?.code ? chosen : undefined} />)}
      </ul>
      {chosen && <Made key={JSON.stringify(chosen)} asked={asked} chosen={chosen} />}
    </div>
  );
}

const BOX = "min-h-7 rounded border border-line-strong bg-panel px-2";

function Offer({ change, chosen }: { change: Change; chosen: Usually | undefined }) {
  const { say } = useRoute("/plans/:key/compare");
  const said = new Map(chosen?.said.map((one) => [one.slice(0, one.indexOf("=")), one.slice(one.indexOf("=") + 1)]));
  const [given, setGiven] = useState(Object.fromEntries(change.asks.map((one) => [one.name, said.get(one.name) ?? one.given])));
  const send = (event: FormEvent) => {
    event.preventDefault();
    say((now) => ({ ...now, usual: change.code, said: change.asks.map(({ name }) => `${name}=${given[name] ?? ""}`), at: undefined }));
  };
  return (
    <li className={`border-t border-dotted border-line first:border-t-0 ${chosen ? "bg-foot" : ""}`}>
      <form className="grid items-baseline gap-x-4 gap-y-1 px-2 py-1.5 md:grid-cols-[26rem_minmax(0,1fr)_auto]" onSubmit={send} aria-label={change.title}>
        <span>
          <b className="font-semibold">{change.title}</b>
          <span className="block text-[12px] text-ink-soft">{change.says}</span>
        </span>
        <span className="flex flex-wrap items-center gap-2">
          {change.asks.map(({ name, words, offers }) => {
            const set = (value: string) => setGiven({ ...given, [name]: value });
            return (
              <label key={name} className="flex items-center gap-2">
                {words}
                {offers.length ? (
                  <select className={BOX} value={given[name]} onChange={(event) => set(event.target.value)}>{offers.map((one) => <option key={one}>{one}</option>)}</select>
                ) : (
                  <input inputMode="numeric" className={`${BOX} w-20 text-right tabular-nums`} value={given[name]} onChange={(event) => set(event.target.value)} />
                )}
                {/_s$/.test(name) && "s"}
              </label>
            );
          })}
        </span>
        <Button type="submit">Rehearse</Button>
      </form>
    </li>
  );
}

function Made({ asked, chosen }: { asked: Asked; chosen: Usually }) {
  const made = useUsual(asked, chosen);
  if (made.error) return <Trouble error={made.error} title="This cannot be rehearsed" />;
  if (!made.data) return <Rehearsing asked={asked} chosen={chosen} running={made.isFetching} onAgain={() => void made.refetch()} />;
  const { rehearsal, patch, adds } = made.data;
  return (
    <Rehearsed change={rehearsal} Moment={(given) => <UsualMoment {...given} asked={asked} chosen={chosen} />}>
      <Steps change={rehearsal} />
      <Take planKey={asked.key} patch={patch as unknown as Operation[]} adds={adds} />
    </Rehearsed>
  );
}

function UsualMoment({ asked, chosen, ...given }: MomentProps & { asked: Asked; chosen: Usually }) {
  return <BoardThen {...given} moment={useUsualMoment(asked, chosen, given.at)} />;
}

function Rehearsing({ asked, chosen, running, onAgain }: { asked: Asked; chosen: Usually; running: boolean; onAgain: () => void }) {
  const client = useQueryClient();
  const { data } = useUsualProgress(asked, chosen, running);
  return <Working doing="Rehearsing it" stopped="Stopped before all was rehearsed." called="How many steps have been rehearsed" again="Rehearse it" running={running} done={data} waits={data?.waits} onStop={() => void client.cancelQueries({ queryKey: answerKey(asked, "usual change", chosen.code, chosen.said) })} onAgain={onAgain} />;
}

function Steps({ change }: { change: Schemas["RehearsalAnswer"] }) {
  return (
    <div className="relative max-w-full overflow-x-auto" tabIndex={0} role="group" aria-label="Steps">
      <table className="w-full text-left tabular-nums" data-testid="usual-steps">
        <thead className="text-[11px] text-ink-soft">
          <tr>{["at", "what is done", "then waits", "fails"].map((one) => <th key={one} scope="col" className="pr-3 pb-1 font-normal">{one}</th>)}</tr>
        </thead>
        <tbody>
          {change.steps.map((one, index) => (
            <tr key={index} className="border-t border-dotted border-line align-baseline">
              <td className="pr-3">{clock(one.at_s)}</td>
              <td className="pr-3">{one.words}</td>
              <td className="pr-3">{one.waits_s > 0 ? span(one.waits_s) : "–"}</td>
              <td className={one.failed >= 0.5 ? "font-semibold text-vermilion-text" : ""}>{one.failed >= 0.5 ? amount(one.failed) : "none"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Makes the plan what it is after the change, or the change a drill of it. */
function Take({ planKey, patch, adds }: { planKey: string; patch: Operation[]; adds: "plan" | "drill" }) {
  const { edit } = useEdit(planKey);
  const navigate = useNavigate();
  const [drill] = adds === "drill" ? patch : [];
  const name = drill && "value" in drill ? (drill.value as { name: string }).name : undefined;
  const take = () =>
    edit.mutate(patch, {
      onSuccess: () => {
        if (name !== undefined) navigate({ to: "/plans/:key/drill", params: { key: planKey }, search: { drill: name } });
        else navigate({ to: "/plans/:key/compare", params: { key: planKey }, search: { way: "change" } });
      },
    });
  return (
    <p className="mt-3">
      <Button tone="main" disabled={edit.isPending} onClick={take}>{adds === "drill" ? "Make it a drill" : "Make it the plan"}</Button>
    </p>
  );
}
