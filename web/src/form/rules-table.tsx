import { ArrowDown, ArrowUp, Plus } from "lucide-react";
import { useState } from "react";

import type { PlanDocument, Schemas } from "../api/client";
import { perSecond } from "../kit/format";
import { IconButton, Section } from "../kit/parts";
import { adding, useEdit } from "../plan/edit";
import { useRules, type Asked } from "../plan/queries";

interface RulesTableProps {
  asked: Asked;
  planKey: string;
  document: PlanDocument;
  balancer: string;
  index: number;
  listener: Schemas["Listener"];
}

/** What an action does, in few words. */
export function actionWords(action: Schemas["Action"]): string {
  if (action.pool) return `pool ${action.pool}`;
  if (action.redirect) return `redirect ${action.redirect.status} to ${action.redirect.protocol ?? "the same"}${action.redirect.port ? ` ${action.redirect.port}` : ""}`;
  return `answer ${action.respond?.status ?? 200}`;
}

/** What a rule asks of a request, in few words. */
export function whenWords(when: Schemas["When"] | undefined): string {
  const words = [...(when?.host ?? []), ...(when?.path ?? []), ...(when?.method ?? []), ...(when?.source ?? [])];
  for (const [kind, fields] of [["header", when?.header], ["query", when?.query]] as const) {
    for (const [name, values] of Object.entries(fields ?? {})) words.push(`${kind} ${name}=${values.join("|")}`);
  }
  return words.join(" ") || "anything";
}

/** A listener's rules in order: match, rate, where it goes, what shadows it; type a URL and the winner lights up. */
export function RulesTable({ asked, planKey, document, balancer, index, listener }: RulesTableProps) {
  const [url, setUrl] = useState("");
  const rules = useRules(asked, balancer, listener.name, url);
  const { edit } = useEdit(planKey);
  const place = `/balancers/${document.balancers.findIndex((one) => one.name === balancer)}/listeners/${index}/rules`;
  const settings = listener.rules;
  const add = () =>
    edit.mutate([adding(`${place}/-`, { name: `rule-${settings.length + 1}`, when: { path: ["/new/*"] }, do: listener.otherwise })]);
  return (
    <Section title="Rules, first match serves">
      <label className="mb-2 block text-[12px] text-ink-soft">
        Which rule takes this URL?
        <input
          className="mt-0.5 min-h-6 w-full rounded border border-line-strong bg-paper px-1.5 font-mono text-[12px] text-ink"
          placeholder="https://www.beckwater.example/alerts/near"
          value={url}
          spellCheck={false}
          onChange={(event) => setUrl(event.target.value)}
        />
      </label>
      <ol className="space-y-1" data-testid="rules">
        {rules.data?.rows.map((row, number) => {
          const rule = settings[number];
          return (
            <li key={row.name} data-takes={row.takes} className={`rounded border px-2 py-1 ${row.takes ? "border-north bg-north-fill" : "border-line"}`}>
              <span className="flex items-baseline justify-between gap-2">
                <b className="min-w-0 truncate font-semibold">
                  {rule ? `${number + 1} ` : ""}
                  {row.name}
                </b>
                <span className="shrink-0 text-north">{perSecond(row.rps)}</span>
              </span>
              <span className="flex items-center justify-between gap-2 text-[12px] text-ink-soft">
                <span className="min-w-0 truncate font-mono">{rule ? whenWords(rule.when) : ""}</span>
                <span className="shrink-0">{actionWords(rule ? rule.do : listener.otherwise)}</span>
              </span>
              {row.shadowed_by && <span className="text-[12px] text-ochre-text">never reached: {row.shadowed_by} takes all of it</span>}
              {rule && (
                <span className="flex justify-end">
                  <IconButton quiet label={`Move ${row.name} up`} disabled={number === 0} onClick={() => edit.mutate([{ op: "move", from: `${place}/${number}`, path: `${place}/${number - 1}` }])}>
                    <ArrowUp size={12} />
                  </IconButton>
                  <IconButton quiet label={`Move ${row.name} down`} disabled={number === settings.length - 1} onClick={() => edit.mutate([{ op: "move", from: `${place}/${number}`, path: `${place}/${number + 1}` }])}>
                    <ArrowDown size={12} />
                  </IconButton>
                </span>
              )}
            </li>
          );
        })}
      </ol>
      {rules.data?.because && <p className="mt-1 text-[12px]">{rules.data.because}</p>}
      <button type="button" className="mt-1 flex min-h-6 items-center gap-1 text-[12px] font-medium text-north hover:underline" onClick={add}>
        <Plus size={12} aria-hidden="true" /> add a rule
      </button>
    </Section>
  );
}
