import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useMemo, useState } from "react";

import { api, dataOf, ProblemError, type Schemas } from "../../api/client";
import { counted } from "../../kit/format";
import { Button } from "../../kit/parts";
import { numberIn, servicesIn } from "../../plan/cells";
import { readRows, underColumns } from "../../kit/rows";

type Body = Schemas["ProposalBody"];

const COLUMNS = ["name", "zone", "port", "capacity_rps", "service_ms", "fault_domain"];
const PLACEHOLDER = "name\tzone\tcapacity_rps\nmaps-1\tvale-1\t120\nmaps-2\tvale-2\t120";

/** `vale: vale-1, vale-2` a line. */
export function regionsIn(text: string): Record<string, string[]> {
  const regions: Record<string, string[]> = {};
  for (const line of text.split("\n")) {
    const [name = "", zones = ""] = line.split(":");
    if (name.trim()) regions[name.trim()] = zones.split(/[\s,;]+/).filter(Boolean);
  }
  return regions;
}

/** Pasted machine rows as the proposal wants them. */
export function machinesIn(text: string): Schemas["MachineRowBody"][] {
  return underColumns(readRows(text), COLUMNS).map((cells) => ({
    name: cells["name"] ?? "",
    zone: cells["zone"] ?? "",
    port: cells["port"] ? (servicesIn(cells["port"])[0]?.port as number) : undefined,
    capacity_rps: cells["capacity_rps"] ? (numberIn(cells["capacity_rps"]) as number) : undefined,
    service_ms: cells["service_ms"] ? (numberIn(cells["service_ms"]) as number) : undefined,
    fault_domain: cells["fault_domain"] || undefined,
  }));
}

function planName(title: string): string {
  const name = title.toLowerCase().replaceAll(/[^a-z0-9]+/g, "-").replaceAll(/^[^a-z]+|-+$/g, "");
  return name || "plan";
}

/** From pasted machines to a first drill: regions, machines and a URL are asked, the rest is proposed. */
export function StartView() {
  const [title, setTitle] = useState("");
  const [regions, setRegions] = useState("");
  const [machines, setMachines] = useState("");
  const [url, setUrl] = useState("https://www.beckwater.example/");
  const navigate = useNavigate();
  const client = useQueryClient();
  const body: Body = useMemo(
    () => ({ name: planName(title), title, regions: regionsIn(regions), rows: machinesIn(machines), url }),
    [title, regions, machines, url],
  );
  const propose = useMutation({ mutationFn: async (asked: Body) => dataOf(await api.POST("/api/proposal", { body: asked })) });
  const take = useMutation({
    mutationFn: async (plan: Schemas["Plan"]) =>
      dataOf(await api.POST("/api/plans", { body: JSON.stringify(plan) as never, bodySerializer: (one: unknown) => String(one), headers: { "content-type": "text/plain" } })),
    onSuccess: async (head) => {
      await client.invalidateQueries({ queryKey: ["plans"] });
      void navigate({ to: "/plans/$key/board", params: { key: head.key }, search: {} });
    },
  });
  const error = propose.error ?? take.error;
  const box = "mt-1 w-full rounded border border-line-strong bg-panel px-2 py-1";
  return (
    <main className="flex-1 overflow-y-auto p-8">
      <div className="mx-auto grid max-w-5xl grid-cols-2 gap-8">
        <form
          className="space-y-4"
          onSubmit={(event) => {
            event.preventDefault();
            propose.mutate(body);
          }}
        >
          <h1 className="text-2xl font-semibold">Start a plan</h1>
          <label className="block font-medium">
            What is it called?
            <input className={box} required value={title} placeholder="Vale flood maps" onChange={(event) => setTitle(event.target.value)} />
          </label>
          <label className="block font-medium">
            Regions and their zones, a line each
            <textarea className={`${box} h-16 font-mono text-[12px]`} required value={regions} placeholder="vale: vale-1, vale-2" spellCheck={false} onChange={(event) => setRegions(event.target.value)} />
          </label>
          <label className="block font-medium">
            Machines, pasted from a spreadsheet
            <span className="block text-[12px] font-normal text-ink-soft">{COLUMNS.join(", ")}; name and zone are enough</span>
            <textarea className={`${box} h-44 font-mono text-[12px]`} required value={machines} placeholder={PLACEHOLDER} spellCheck={false} onChange={(event) => setMachines(event.target.value)} />
          </label>
          <label className="block font-medium">
            The URL that clients ask
            <input className={`${box} font-mono text-[12px]`} required type="url" value={url} onChange={(event) => setUrl(event.target.value)} />
          </label>
          <Button type="submit" tone="main" disabled={propose.isPending}>
            Propose the rest
          </Button>
          {error && <Problems error={error} />}
        </form>
        <section aria-label="The proposal">
          {propose.data ? (
            <Proposal plan={propose.data} busy={take.isPending} onTake={() => take.mutate(propose.data)} />
          ) : (
            <p className="mt-14 rounded border border-dashed border-line-strong p-5 text-ink-soft">
              {body.rows.length > 0 ? `${counted(body.rows.length, "machine")} in ${counted(new Set(body.rows.map((row) => row.zone)).size, "zone")}.` : "Here will stand what is proposed: groups, a pool, a balancer a region, a name, clients at half load, and a first drill that loses a zone."}
            </p>
          )}
        </section>
      </div>
    </main>
  );
}

function Problems({ error }: { error: Error }) {
  const problems = error instanceof ProblemError ? error.problems : [];
  return (
    <ul role="alert" className="space-y-1 text-vermilion-text">
      {problems.length === 0 && <li>{error.message}</li>}
      {problems.slice(0, 6).map((problem) => (
        <li key={problem.where + problem.message}>
          <code className="font-mono text-[12px]">{problem.where}</code> {problem.message}
        </li>
      ))}
    </ul>
  );
}

function Proposal({ plan, busy, onTake }: { plan: Schemas["Plan"]; busy: boolean; onTake: () => void }) {
  const rows: [string, string][] = [
    ["Machines", `${plan.instances.length} in ${new Set(plan.instances.map((one) => one.zone)).size} zones`],
    ["Target groups", plan.target_groups.map((one) => `${one.name} on port ${one.port}`).join(", ")],
    ["Probe", plan.probes.map((one) => `${one.path} every ${one.interval_s} s, out after ${one.unhealthy_after} fails`).join("")],
    ["Balancers", plan.balancers.map((one) => `${one.name} in ${Object.keys(one.zones).join(", ")}`).join("; ")],
    ["Name", plan.names.map((one) => `${one.name}, TTL ${one.ttl_s} s`).join("")],
    ["Clients", plan.clients.map((one) => `${one.rps} requests/s`).join("")],
    ["First drill", plan.drills[0]?.title ?? "none"],
  ];
  return (
    <div className="mt-12 rounded border border-line-strong bg-panel p-5">
      <h2 className="mb-2 text-lg font-semibold">Proposed</h2>
      <dl className="space-y-1.5">
        {rows.map(([what, words]) => (
          <div key={what} className="grid grid-cols-[110px_1fr] gap-2">
            <dt className="text-ink-soft">{what}</dt>
            <dd>{words}</dd>
          </div>
        ))}
      </dl>
      <p className="mt-3 text-[12px] text-ink-soft">Everything can be changed on the board afterwards.</p>
      <Button tone="main" className="mt-3" disabled={busy} onClick={onTake}>
        Take it and open the board
      </Button>
    </div>
  );
}
