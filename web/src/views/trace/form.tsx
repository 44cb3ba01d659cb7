import { CornerDownLeft, Plus } from "lucide-react";
import { useState, type FormEvent, type ReactNode } from "react";

import type { PlanDocument } from "../../api/client";
import { amount } from "../../kit/format";
import { Button } from "../../kit/parts";
import { TIMES, VARIES, type TraceSearch } from "../../plan/searches";
import { VARY_WORDS } from "./question";

const BOX = "mt-0.5 block min-h-8 w-full min-w-0 rounded border border-line-strong bg-panel px-2 text-ink hover:border-ink";
const METHODS = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];

interface TraceFormProps {
  document: PlanDocument;
  search: TraceSearch;
  onSend: (search: TraceSearch) => void;
}

/** The request: who sends it, what is asked, when; and how often. A probe has its own, shorter form. */
export function TraceForm({ document, search, onSend }: TraceFormProps) {
  const [draft, setDraft] = useState(search);
  const set = (changes: TraceSearch) => setDraft((before) => ({ ...before, ...changes }));
  const now = (changes: TraceSearch) => onSend({ ...draft, ...changes });
  const send = (event: FormEvent) => {
    event.preventDefault();
    onSend(draft);
  };
  return (
    <form className="w-[292px] shrink-0 space-y-3 overflow-y-auto border-r border-line-strong bg-panel px-4 pt-3 pb-6 max-md:w-full max-md:border-r-0 max-md:border-b print:hidden" onSubmit={send} aria-label="One request">
      {draft.probe === undefined ? <RequestFields document={document} draft={draft} set={set} /> : <ProbeFields document={document} draft={draft} set={set} />}
      <MomentFields document={document} draft={draft} set={set} />
      <Button type="submit" tone="main" className="min-h-9 w-full justify-center">
        Send once <CornerDownLeft size={13} aria-hidden="true" />
      </Button>
      {draft.probe === undefined && (
        <fieldset className="space-y-2 pt-1">
          <legend className="pb-1 text-[15px] font-semibold">And again</legend>
          <Segments label="How many times" options={TIMES.map((one) => [one, one.toLocaleString("en-GB")])} value={draft.times ?? 1} onChange={(times) => now({ times: times === 1 ? undefined : times })} />
          {VARIES.map((one) => (
            <label key={one} className="flex min-h-6 items-center gap-2">
              <input type="radio" name="vary" className="size-4 accent-north" checked={(draft.vary ?? "connection") === one} onChange={() => now({ vary: one === "connection" ? undefined : one })} />
              {VARY_WORDS[one]}
            </label>
          ))}
        </fieldset>
      )}
    </form>
  );
}

/** A URL without its scheme and host, which a client group mostly asks alike. */
function pathOf(url: string): string {
  return url.replace(/^[a-z]+:\/\/[^/]+/, "") || url;
}

interface FieldsProps {
  document: PlanDocument;
  draft: TraceSearch;
  set: (changes: TraceSearch) => void;
}

const FREE = "";

function RequestFields({ document, draft, set }: FieldsProps) {
  const clients = document.clients;
  const client = clients.find((one) => one.name === draft.client);
  const [more, setMore] = useState(Boolean(draft.headers));
  const choose = (name: string) => {
    const chosen = clients.find((one) => one.name === name);
    set({ client: name === FREE ? undefined : name, source: name === FREE ? (draft.source ?? "198.18.0.1") : undefined, url: chosen?.calls[0]?.url ?? draft.url });
  };
  return (
    <>
      <h2 className="text-[15px] font-semibold">One request</h2>
      <Field label="From">
        <select className={BOX} value={draft.client ?? FREE} onChange={(event) => choose(event.target.value)}>
          {clients.map((one) => (
            <option key={one.name} value={one.name}>
              {one.name}
              {one.area ? ` · ${one.area}` : ""}
            </option>
          ))}
          <option value={FREE}>a free address</option>
        </select>
      </Field>
      <Field label="Source address" hint={client ? `any of ${amount(client.sources)}` : undefined}>
        <input className={`${BOX} font-mono text-[12px]`} placeholder={client ? `the first of ${client.cidr}` : "198.18.0.1"} value={draft.source ?? ""} spellCheck={false} autoComplete="off" onChange={(event) => set({ source: event.target.value || undefined })} />
      </Field>
      {!client && (
        <Field label="Area">
          <select className={BOX} value={draft.area ?? ""} onChange={(event) => set({ area: event.target.value || undefined })}>
            <option value="">none</option>
            {document.areas.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </select>
        </Field>
      )}
      <Field label="To">
        <textarea
          className={`${BOX} py-1 font-mono text-[12px] [overflow-wrap:anywhere]`}
          rows={2}
          aria-label="To"
          value={draft.url ?? ""}
          placeholder="https://www.beckwater.example/"
          spellCheck={false}
          autoComplete="off"
          onChange={(event) => set({ url: event.target.value.replaceAll("\n", "") })}
          onKeyDown={(event) => {
            if (event.key !== "Enter") return;
            event.preventDefault();
            event.currentTarget.form?.requestSubmit();
          }}
        />
      </Field>
      {client && client.calls.length > 1 && (
        <p className="flex flex-wrap gap-1" aria-label="What this client asks">
          {client.calls.map((call) => (
            <button key={call.url} type="button" className={`min-h-6 max-w-full truncate rounded border px-1.5 font-mono text-[11px] ${call.url === draft.url ? "border-north text-north" : "border-line hover:border-ink"}`} title={call.url} onClick={() => set({ url: call.url })}>
              {pathOf(call.url)}
            </button>
          ))}
        </p>
      )}
      <Field label="Method and headers">
        <span className="flex gap-2">
          <select className={BOX} aria-label="Method" value={draft.method ?? "GET"} onChange={(event) => set({ method: event.target.value === "GET" ? undefined : event.target.value })}>
            {METHODS.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
          <Button className="mt-0.5 shrink-0 text-[12px]" onClick={() => setMore(true)} disabled={more}>
            <Plus size={12} aria-hidden="true" /> header
          </Button>
        </span>
      </Field>
      {more && (
        <Field label="Headers, one a line">
          <textarea className={`${BOX} min-h-14 py-1 font-mono text-[12px]`} placeholder="x-canary: 1" value={draft.headers ?? ""} spellCheck={false} onChange={(event) => set({ headers: event.target.value || undefined })} />
        </Field>
      )}
      <div>
        <span className="text-[12px] text-ink-soft">Session</span>
        <Segments label="Session" options={[["none", "none"], ["kept", "kept"]]} value={draft.session ?? "none"} onChange={(session) => set({ session: session === "kept" ? "kept" : undefined })} />
      </div>
    </>
  );
}

function ProbeFields({ document, draft, set }: FieldsProps) {
  const [group = "", target = ""] = (draft.probe ?? "").split("/");
  const balancers = document.balancers;
  return (
    <>
      <h2 className="text-[15px] font-semibold">One probe</h2>
      <Field label="Target group">
        <select className={BOX} value={group} onChange={(event) => set({ probe: `${event.target.value}/`, front: undefined })}>
          {document.target_groups.map((one) => (
            <option key={one.name}>{one.name}</option>
          ))}
        </select>
      </Field>
      <Field label="Target">
        <input className={BOX} value={target} spellCheck={false} onChange={(event) => set({ probe: `${group}/${event.target.value}` })} />
      </Field>
      <Field label="From the front">
        <select className={BOX} value={draft.front ?? ""} onChange={(event) => set({ front: event.target.value || undefined })}>
          <option value="">the first that probes it</option>
          {balancers.flatMap((one) => Object.keys(one.zones).map((zone) => <option key={`${one.name}/${zone}`}>{`${one.name}/${zone}`}</option>))}
        </select>
      </Field>
      <Button className="text-[12px]" onClick={() => set({ probe: undefined, front: undefined })}>A request instead</Button>
    </>
  );
}

/** Now, or a second of a drill. */
function MomentFields({ document, draft, set }: FieldsProps) {
  const drill = document.drills.find((one) => one.name === draft.drill);
  return (
    <Field label="At">
      <span className="flex gap-2">
        <select
          className={BOX}
          aria-label="Moment"
          value={draft.at === undefined ? "" : (draft.drill ?? "")}
          onChange={(event) => {
            const chosen = document.drills.find((one) => one.name === event.target.value);
            set({ drill: chosen?.name, at: chosen ? (draft.at ?? (chosen.steps[0]?.at_s ?? 0)) : undefined });
          }}
        >
          <option value="">now, no fault</option>
          {document.drills.map((one) => (
            <option key={one.name} value={one.name}>
              {one.title || one.name}
            </option>
          ))}
        </select>
        {draft.at !== undefined && (
          <input type="number" aria-label="Second of the drill" className={`${BOX} w-20! shrink-0 font-mono text-[12px]`} min={0} max={drill?.lasts_s ?? 900} step="any" value={draft.at} onChange={(event) => set({ at: Number(event.target.value) })} />
        )}
      </span>
    </Field>
  );
}

function Field({ label, hint, children }: { label: string; hint?: string | undefined; children: ReactNode }) {
  return (
    <label className="block">
      <span className="flex justify-between text-[12px] text-ink-soft">
        {label}
        {hint && <span>{hint}</span>}
      </span>
      {children}
    </label>
  );
}

interface SegmentsProps<Value> {
  label: string;
  options: [Value, string][];
  value: Value;
  onChange: (value: Value) => void;
}

function Segments<Value extends string | number>({ label, options, value, onChange }: SegmentsProps<Value>) {
  return (
    <span className="mt-0.5 flex gap-1" role="radiogroup" aria-label={label}>
      {options.map(([one, words]) => (
        <button key={one} type="button" role="radio" aria-checked={one === value} className={`min-h-7 flex-1 rounded border px-2 text-[12px] ${one === value ? "border-north bg-north-fill font-semibold text-north" : "border-line-strong hover:border-ink"}`} onClick={() => onChange(one)}>
          {words}
        </button>
      ))}
    </span>
  );
}
