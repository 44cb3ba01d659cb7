import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { useMemo, useState, type ComponentProps } from "react";

import { api, dataOf, fileBody, ProblemError, type PlanHead, type Schemas } from "../../api/client";
import { counted } from "../../kit/format";
import { Button } from "../../kit/parts";
import { numberIn, servicesIn } from "../../plan/cells";
import type { ViewSearch } from "../../plan/searches";
import { readRows, underColumns } from "../../kit/rows";
import { useNavigate } from "../../plan/route";

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

const WAYS = [
  ["machines", "From machines", "Pasted from a spreadsheet: the rest is proposed."],
  ["server", "From a server", "One that is asked at its own address today."],
  ["nothing", "From nothing", "Piece by piece; the board says what comes next."],
  ["example", "From an example", "A plan that ships with North Gate."],
] as const;

type Way = (typeof WAYS)[number][0];

/** How a plan begins. */
export function StartView() {
  const [way, setWay] = useState<Way>("machines");
  return (
    <main id="main" className="flex-1 overflow-y-auto p-4 sm:p-8">
      <div className="mx-auto max-w-5xl">
        <h1 className="mb-4 text-2xl font-semibold">Start a plan</h1>
        <RadioGroup.Root className="mb-6 grid gap-2 sm:grid-cols-4" aria-label="How it begins" orientation="horizontal" value={way} onValueChange={(one) => setWay(one as Way)}>
          {WAYS.map(([one, title, words]) => (
            <RadioGroup.Item key={one} value={one} className="rounded border border-line-strong bg-panel px-3 py-2 text-left hover:border-ink data-[state=checked]:border-north data-[state=checked]:bg-north-fill">
              <b className="block font-semibold">{title}</b>
              <span className="text-[12px] text-ink-soft">{words}</span>
            </RadioGroup.Item>
          ))}
        </RadioGroup.Root>
        {way === "machines" && <FromMachines />}
        {way === "server" && <FromServer />}
        {way === "nothing" && <FromNothing />}
        {way === "example" && <FromExample />}
      </div>
    </main>
  );
}

/** Opens a plan that has just been taken in. */
function useOpen() {
  const navigate = useNavigate();
  const client = useQueryClient();
  return async (key: string, search: ViewSearch = {}) => {
    await client.invalidateQueries({ queryKey: ["plans"] });
    navigate({ to: "/plans/:key/board", params: { key }, search });
  };
}

async function takeIn(plan: object): Promise<PlanHead> {
  return dataOf(await api.POST("/api/plans", fileBody(JSON.stringify(plan))));
}

const FIELD = "mt-1 w-full rounded border border-line-strong bg-panel px-2 py-1";

/** An empty plan, whose board says what comes first. */
function FromNothing() {
  const [title, setTitle] = useState("");
  const open = useOpen();
  const take = useMutation({
    mutationFn: () => takeIn({ northgate: 1, name: planName(title), title }),
    onSuccess: (head) => open(head.key, { add: "region" }),
  });
  return (
    <form
      className="max-w-md space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        take.mutate();
      }}
    >
      <label className="block font-medium">
        What is it called?
        <input className={FIELD} required value={title} placeholder="Vale flood maps" onChange={(event) => setTitle(event.target.value)} />
      </label>
      <Button type="submit" tone="main" disabled={take.isPending}>
        Open its board
      </Button>
      {take.error && <Problems error={take.error} />}
    </form>
  );
}

/** One server as it stands today; a balancer can take its address over later. */
function FromServer() {
  const [asked, setAsked] = useState({ title: "", server: "", public_address: "", url: "https://www.beckwater.example/", rps: "50", capacity_rps: "100" });
  const open = useOpen();
  const take = useMutation({
    mutationFn: async () => {
      const { title, server, public_address, url } = asked;
      const body = { name: planName(title), title, server, public_address, url, rps: numberIn(asked.rps) as number, capacity_rps: numberIn(asked.capacity_rps) as number };
      return takeIn(dataOf(await api.POST("/api/proposal/server", { body })));
    },
    onSuccess: (head) => open(head.key),
  });
  const field = (name: keyof typeof asked, label: string, more: ComponentProps<"input"> = {}) => (
    <label className="block font-medium">
      {label}
      <input className={FIELD} required value={asked[name]} spellCheck={false} autoComplete="off" onChange={(event) => setAsked({ ...asked, [name]: event.target.value })} {...more} />
    </label>
  );
  return (
    <form
      className="grid max-w-2xl gap-4 sm:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        take.mutate();
      }}
    >
      {field("title", "What is it called?", { placeholder: "Vale flood maps" })}
      {field("server", "The server’s name", { placeholder: "maps-1" })}
      {field("public_address", "Its address", { placeholder: "203.0.113.40" })}
      {field("url", "The URL that clients ask", { type: "url" })}
      {field("rps", "Requests a second", { inputMode: "decimal" })}
      {field("capacity_rps", "It can carry, a second", { inputMode: "decimal" })}
      <span className="sm:col-span-2">
        <Button type="submit" tone="main" disabled={take.isPending}>
          Open its board
        </Button>
      </span>
      {take.error && <Problems error={take.error} />}
    </form>
  );
}

function FromExample() {
  const open = useOpen();
  const examples = useQuery({ queryKey: ["examples"], queryFn: async () => dataOf(await api.GET("/api/examples")) });
  const take = useMutation({
    mutationFn: async (name: string) => dataOf(await api.POST("/api/examples/{name}", { params: { path: { name } } })),
    onSuccess: (head) => open(head.key),
  });
  const known = examples.data ?? [];
  return (
    <>
      <Examples examples={known.filter((one) => !one.is_trap)} pending={take.isPending} onTake={(name) => take.mutate(name)} />
      {known.some((one) => one.is_trap) && (
        <section aria-label="Traps" className="mt-6">
          <h2 className="font-semibold">Traps</h2>
          <p className="mb-3 text-ink-soft">Small plans in which one thing is wrong: look at the board first, then at what Findings says.</p>
          <Examples examples={known.filter((one) => one.is_trap)} pending={take.isPending} onTake={(name) => take.mutate(name)} />
        </section>
      )}
      {(examples.error ?? take.error) && <Problems error={examples.error ?? (take.error as Error)} />}
    </>
  );
}

function Examples({ examples, pending, onTake }: { examples: Schemas["Example"][]; pending: boolean; onTake: (name: string) => void }) {
  return (
    <ul className="grid gap-3 sm:grid-cols-2">
      {examples.map((one) => (
        <li key={one.name} className="flex flex-col rounded border border-line-strong bg-panel p-4">
          <b className="font-semibold">{one.title}</b>
          <p className="mt-1 mb-3 flex-1 text-ink-soft">{one.notes}</p>
          <Button className="self-start" disabled={pending} aria-label={`Begin from it: ${one.title}`} onClick={() => onTake(one.name)}>
            Begin from it
          </Button>
        </li>
      ))}
    </ul>
  );
}

/** From pasted machines to a first drill: regions, machines and a URL are asked, the rest is proposed. */
function FromMachines() {
  const [title, setTitle] = useState("");
  const [regions, setRegions] = useState("");
  const [machines, setMachines] = useState("");
  const [url, setUrl] = useState("https://www.beckwater.example/");
  const open = useOpen();
  const body: Body = useMemo(
    () => ({ name: planName(title), title, regions: regionsIn(regions), rows: machinesIn(machines), url }),
    [title, regions, machines, url],
  );
  const propose = useMutation({ mutationFn: async (asked: Body) => dataOf(await api.POST("/api/proposal", { body: asked })) });
  const take = useMutation({ mutationFn: takeIn, onSuccess: (head) => open(head.key) });
  const error = propose.error ?? take.error;
  return (
    <div className="grid gap-8 md:grid-cols-2">
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          propose.mutate(body);
        }}
      >
        <label className="block font-medium">
          What is it called?
          <input className={FIELD} required value={title} placeholder="Vale flood maps" onChange={(event) => setTitle(event.target.value)} />
        </label>
        <label className="block font-medium">
          Regions and their zones, a line each
          <textarea className={`${FIELD} h-16 font-mono text-[12px]`} required value={regions} placeholder="vale: vale-1, vale-2" spellCheck={false} onChange={(event) => setRegions(event.target.value)} />
        </label>
        <label className="block font-medium">
          Machines, pasted from a spreadsheet
          <span className="block text-[12px] font-normal text-ink-soft">{COLUMNS.join(", ")}; name and zone are enough</span>
          <textarea className={`${FIELD} h-44 font-mono text-[12px]`} required value={machines} placeholder={PLACEHOLDER} spellCheck={false} onChange={(event) => setMachines(event.target.value)} />
        </label>
        <label className="block font-medium">
          The URL that clients ask
          <input className={`${FIELD} font-mono text-[12px]`} required type="url" value={url} onChange={(event) => setUrl(event.target.value)} />
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
          <p className="rounded border border-dashed border-line-strong p-5 text-ink-soft">
            {body.rows.length > 0 ? `${counted(body.rows.length, "machine")} in ${counted(new Set(body.rows.map((row) => row.zone)).size, "zone")}.` : "Here will stand what is proposed: a group, a pool and a rule a port, a balancer a region, a name, clients that load each machine to half, and a first drill that loses a zone."}
          </p>
        )}
      </section>
    </div>
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
    ["Rules", plan.balancers[0]?.listeners[0]?.rules.map((one) => `${one.when.path?.join(", ")} to ${one.do.pool}`).join("; ") ?? ""],
    ["Balancers", plan.balancers.map((one) => `${one.name} in ${Object.keys(one.zones).join(", ")}`).join("; ")],
    ["Name", plan.names.map((one) => `${one.name}, TTL ${one.ttl_s} s`).join("")],
    ["Clients", plan.clients.map((one) => `${one.rps} requests/s`).join("")],
    ["First drill", plan.drills[0]?.title ?? "none"],
  ];
  return (
    <div className="rounded border border-line-strong bg-panel p-5">
      <h2 className="mb-2 text-lg font-semibold">Proposed</h2>
      <dl className="space-y-1.5">
        {rows.filter(([, words]) => words).map(([what, words]) => (
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
