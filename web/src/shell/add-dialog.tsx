import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState, type FormEvent } from "react";

import type { PlanDocument } from "../api/client";
import { Button } from "../kit/parts";
import { adding, problemAt, useEdit, type Operation } from "../plan/edit";
import { usePlan, useSchema } from "../plan/queries";
import { formatSelection, type Selection } from "../plan/selection";
import { freeName, KINDS, namesFor, objectsOf, type ObjectKind } from "../plan/names";
import { blankObject, fieldInfo, label, resolve, unit, type Schema } from "../form/schema";

/** What can be added, in the order in which one plans. */
const OFFERED: ObjectKind[] = ["fleet", "instance", "probe", "group", "pool", "balancer", "name", "client", "drill", "firewall", "network", "certificate", "area", "region"];

/** `a`: choose what to add; only what cannot be inferred is asked. */
export function AddDialog({ planKey, open, onOpenChange }: { planKey: string; open: boolean; onOpenChange: (open: boolean) => void }) {
  const plan = usePlan(planKey);
  const schema = useSchema();
  const [kind, setKind] = useState<ObjectKind | "listener">("group");
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-bar/30" />
        <Dialog.Content className="fixed top-16 left-1/2 z-40 flex max-h-[82vh] w-[600px] -translate-x-1/2 flex-col rounded border border-line-strong bg-panel p-5 shadow-xl" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-lg font-semibold">Add to the plan</Dialog.Title>
          <div className="mb-4 flex flex-wrap gap-1.5" role="radiogroup" aria-label="What to add">
            {[...OFFERED, "listener" as const].map((one) => (
              <button
                key={one}
                type="button"
                role="radio"
                aria-checked={kind === one}
                className={`min-h-6 rounded border px-2 ${kind === one ? "border-ink bg-ink text-paper" : "border-line-strong hover:border-ink"}`}
                onClick={() => setKind(one)}
              >
                {one === "listener" ? "listener" : KINDS[one].words}
              </button>
            ))}
          </div>
          {plan.data && schema.data && <NewObject key={kind} planKey={planKey} document={plan.data.document} root={schema.data} kind={kind} onDone={() => onOpenChange(false)} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

interface NewObjectProps {
  planKey: string;
  document: PlanDocument;
  root: Schema;
  kind: ObjectKind | "listener";
  onDone: () => void;
}

/** The new object as it would be, and the few fields that are asked. */
function NewObject({ planKey, document, root, kind, onDone }: NewObjectProps) {
  const { edit } = useEdit(planKey);
  const navigate = useNavigate();
  const [value, setValue] = useState<Record<string, unknown>>(() => proposed(document, root, kind));
  const [home, setHome] = useState(document.balancers[0]?.name ?? "");
  const schema = resolve(root, { $ref: `#/$defs/${kind === "listener" ? "Listener" : KINDS[kind].definition}` });
  const asked = Object.keys(value).filter((name) => isPlain(value[name]));
  const balancer = document.balancers.findIndex((one) => one.name === home);
  const path = kind === "listener" ? `/balancers/${balancer}/listeners/-` : `/${KINDS[kind].list}/-`;
  const send = (event: FormEvent) => {
    event.preventDefault();
    const name = String(value["name"]);
    edit.mutate([adding(path, value), ...following(document, kind, name)], {
      onSuccess: () => {
        const selected: Selection = { kind, name: kind === "listener" ? `${home}/${name}` : name };
        void navigate({ to: "/plans/$key/board", params: { key: planKey }, search: (before) => ({ ...before, select: formatSelection(selected) }) });
        onDone();
      },
    });
  };
  return (
    <form className="flex min-h-0 flex-col" onSubmit={send}>
      <div className="grid min-h-0 grid-cols-2 gap-5 overflow-y-auto">
        <div className="space-y-2">
          {kind === "listener" && <Choice label="balancer" value={home} options={document.balancers.map((one) => one.name)} onChange={(next) => setHome(String(next))} />}
          {asked.map((name) => (
            <Asked key={name} name={name} root={root} document={document} schema={schema.properties?.[name] ?? {}} value={value[name]} onChange={(next) => setValue({ ...value, [name]: next })} />
          ))}
        </div>
        <div>
          <p className="mb-1 text-[12px] text-ink-soft">It will be, with everything else as by default:</p>
          <pre className="overflow-auto rounded bg-foot p-2 font-mono text-[11px] leading-snug">{JSON.stringify(value, null, 1)}</pre>
        </div>
      </div>
      {edit.isError && (
        <p role="alert" className="mt-3 text-vermilion-text">
          {problemAt(edit.error, path)}
        </p>
      )}
      <span className="mt-4 flex justify-end gap-2">
        <Button onClick={onDone}>Cancel</Button>
        <Button type="submit" tone="main" disabled={edit.isPending}>
          Add
        </Button>
      </span>
    </form>
  );
}

function isPlain(value: unknown): boolean {
  return typeof value !== "object" || value === null;
}

interface AskedProps {
  name: string;
  root: Schema;
  document: PlanDocument;
  schema: Schema;
  value: unknown;
  onChange: (value: unknown) => void;
}

function Asked({ name, root, document, schema, value, onChange }: AskedProps) {
  const { field } = fieldInfo(root, schema);
  if (field.kind === "choice") return <Choice label={label(name, schema)} value={value} options={field.words} onChange={onChange} />;
  if (field.kind === "reference") return <Choice label={label(name, schema)} value={value} options={namesFor(document, field.to)} onChange={onChange} />;
  return (
    <label className="block text-ink-soft">
      {label(name, schema)} {unit(schema) && <span className="text-[11px]">({unit(schema)})</span>}
      <input
        className="mt-0.5 min-h-7 w-full rounded border border-line-strong bg-paper px-2 text-ink"
        value={String(value ?? "")}
        autoComplete="off"
        spellCheck={false}
        onChange={(event) => onChange(field.kind === "number" && event.target.value.trim() !== "" && Number.isFinite(Number(event.target.value)) ? Number(event.target.value) : event.target.value)}
      />
    </label>
  );
}

function Choice({ label: said, value, options, onChange }: { label: string; value: unknown; options: unknown[]; onChange: (value: unknown) => void }) {
  return (
    <label className="block text-ink-soft">
      {said}
      <select className="mt-0.5 min-h-7 w-full rounded border border-line-strong bg-paper px-2 text-ink" value={options.indexOf(value)} onChange={(event) => onChange(options[Number(event.target.value)])}>
        {options.map((option, index) => (
          <option key={String(option)} value={index}>
            {String(option)}
          </option>
        ))}
      </select>
    </label>
  );
}

/** What a new object most likely is, inferred from the plan: only the rest is asked. */
export function proposed(document: PlanDocument, root: Schema, kind: ObjectKind | "listener"): Record<string, unknown> {
  const names = (of: string) => namesFor(document, of);
  const definition = kind === "listener" ? "Listener" : KINDS[kind].definition;
  const blank = blankObject(root, resolve(root, { $ref: `#/$defs/${definition}` }), names);
  const zones = Object.fromEntries((document.regions[0]?.zones ?? []).map((zone) => [zone, null]));
  const name = kind === "listener" ? "https" : freeName(document, kind);
  const served = [{ port: 8080, protocol: "http" }];
  const inferred: Partial<Record<ObjectKind | "listener", Record<string, unknown>>> = {
    fleet: { zones, count: 3, instance: { capacity_rps: 100, service_ms: 20, serves: served } },
    instance: { capacity_rps: 100, service_ms: 20, serves: served },
    probe: { interval_s: 10, timeout_s: 5, unhealthy_after: 3, healthy_after: 2, path: "/" },
    group: { port: 8080, probe: document.probes[0]?.name ?? null, targets: looseTargets(document) },
    pool: { tiers: [{ groups: Object.fromEntries(names("target_group").slice(-1).map((one) => [one, 1])) }] },
    balancer: { zones, listeners: [{ name: "https", protocol: "https", port: 443, otherwise: { pool: names("pool")[0] ?? "" } }] },
    listener: { protocol: "https", port: 443, otherwise: { pool: names("pool")[0] ?? "" } },
    name: { ttl_s: 60, answers: names("balancer").slice(0, 1).map((balancer) => ({ balancer })) },
    client: { area: names("area")[0] ?? null, rps: 100, calls: [{ url: `https://${document.names[0]?.name ?? "www.beckwater.example"}/` }] },
    drill: { lasts_s: 600, steps: [{ at_s: 60, fail: { zone: names("zone")[0] } }, { at_s: 360, restore: { zone: names("zone")[0] } }] },
    network: { cidr: `10.${40 + objectsOf(document, "network").length}.0.0/16` },
    certificate: { hosts: ["*.beckwater.example"] },
    region: { zones: [`${name}-1`, `${name}-2`] },
  };
  return { ...blank, name, ...inferred[kind] };
}

/** Fleets and instances that no group has as a target: what a new group is most likely for. */
function looseTargets(document: PlanDocument): unknown[] {
  const targets = document.target_groups.flatMap((group) => group.targets);
  const fleets = document.fleets.filter((fleet) => !targets.some((target) => target.fleet === fleet.name));
  const instances = document.instances.filter((one) => !targets.some((target) => target.instance === one.name));
  return [...fleets.map((fleet) => ({ fleet: fleet.name })), ...instances.map((one) => ({ instance: one.name }))];
}

/** What else an addition needs: a new region is some way off from every area. */
function following(document: PlanDocument, kind: ObjectKind | "listener", name: string): Operation[] {
  if (kind !== "region") return [];
  return document.areas.map((_, index) => adding(`/areas/${index}/latency_ms/${name}`, 30));
}
