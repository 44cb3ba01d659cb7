import { ArrowDown, ArrowUp, Plus } from "lucide-react";
import { useEffect, useRef, useState } from "react";

import type { PlanDocument, Schemas } from "../api/client";
import { perSecond } from "../kit/format";
import { IconButton, Section } from "../kit/parts";
import { adding, useEdit } from "../plan/edit";
import { useRules, type Asked } from "../plan/queries";
import { ObjectSection } from "./object-section";
import { WhichRule, type Request } from "./which-rule";

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

/** A listener's rules in order: match, rate, where it goes, what shadows it; each unfolds to its fields. Type a request and the winner lights up. */
export function RulesTable({ asked, planKey, document, balancer, index, listener }: RulesTableProps) {
  const [request, setRequest] = useState<Request>({ url: "", method: "GET", headers: "" });
  const [open, setOpen] = useState<string>();
  const rules = useRules(asked, balancer, listener.name);
  const winner = useRules(asked, balancer, listener.name, request);
  const { edit } = useEdit(planKey);
  const inside = `/listeners/${index}/rules`;
  const place = `/balancers/${document.balancers.findIndex((one) => one.name === balancer)}${inside}`;
  const settings = listener.rules;
  const { list, move, dragging } = useMoves(place, settings.map((one) => one.name), (from, to) => edit.mutate([{ op: "move", from: `${place}/${from}`, path: `${place}/${to}` }]));
  const add = () => {
    const name = freeRule(settings);
    edit.mutate([adding(`${place}/-`, { name, when: { path: ["/new/*"] }, do: listener.otherwise })], { onSuccess: () => setOpen(name) });
  };
  return (
    <Section title="Rules, first match serves">
      <WhichRule request={request} onChange={setRequest} problem={winner.error?.message} because={request.url ? winner.data?.because : undefined} />
      <ol className="space-y-1" data-testid="rules" ref={list}>
        {[...settings, undefined].map((rule, number) => {
          // What the server says of a rule comes a moment after the rule itself.
          const name = rule?.name ?? "otherwise";
          const row = rowOf(rules.data, name);
          const takes = Boolean(request.url) && rowOf(winner.data, name)?.takes === true;
          return (
            <li key={name} data-takes={takes} className={`rounded border px-2 py-1 ${takes ? "border-north bg-north-fill" : "border-line"}`} {...(rule ? dragging(number, open !== rule.name) : {})}>
              <span className="flex items-baseline justify-between gap-2">
                <b className="min-w-0 truncate font-semibold">
                  {rule ? `${number + 1} ` : ""}
                  {name}
                </b>
                <span className="shrink-0 text-north">{row && perSecond(row.rps)}</span>
              </span>
              <span className="flex items-center justify-between gap-2 text-[12px] text-ink-soft">
                <span className="min-w-0 truncate font-mono" title={rule ? whenWords(rule.when) : undefined}>{rule ? whenWords(rule.when) : ""}</span>
                <span className="shrink-0">{actionWords(rule ? rule.do : listener.otherwise)}</span>
              </span>
              {row?.shadowed_by && <span className="text-[12px] text-ochre-text">never reached: {row.shadowed_by} takes all of it</span>}
              {rule && (
                <span className="flex items-center justify-between">
                  <button type="button" className="min-h-6 text-[12px] font-medium text-north hover:underline" aria-expanded={open === rule.name} onClick={() => setOpen(open === rule.name ? undefined : rule.name)}>
                    {open === rule.name ? "done" : "change"}
                    <span className="sr-only"> {rule.name}</span>
                  </button>
                  <span className="flex">
                    <IconButton quiet label={`Move ${name} up`} data-move={`${name} -1`} disabled={number === 0} onClick={() => move(number, -1)}>
                      <ArrowUp size={12} />
                    </IconButton>
                    <IconButton quiet label={`Move ${name} down`} data-move={`${name} 1`} disabled={number === settings.length - 1} onClick={() => move(number, 1)}>
                      <ArrowDown size={12} />
                    </IconButton>
                  </span>
                </span>
              )}
              {rule && open === rule.name && (
                <ObjectSection planKey={planKey} document={document} kind="balancer" name={balancer} title="" inside={{ path: `${inside}/${number}`, definition: "Rule" }} onRenamed={setOpen} onDeleted={() => setOpen(undefined)} />
              )}
            </li>
          );
        })}
      </ol>
      <button type="button" className="mt-1 flex min-h-6 items-center gap-1 text-[12px] font-medium text-north hover:underline" onClick={add}>
        <Plus size={12} aria-hidden="true" /> add a rule
      </button>
    </Section>
  );
}

function rowOf(rules: Schemas["ListenerRules"] | undefined, name: string): Schemas["RuleRow"] | undefined {
  return rules?.rows.find((one) => one.name === name);
}

function freeRule(rules: Schemas["Rule"][]): string {
  let number = rules.length + 1;
  while (rules.some((one) => one.name === `rule-${number}`)) number++;
  return `rule-${number}`;
}

/** Moving a row of a list, by its buttons and by dragging it onto another; the button that moved it keeps the focus. */
function useMoves(place: string, names: string[], onMove: (from: number, to: number) => void) {
  const list = useRef<HTMLOListElement>(null);
  const pressed = useRef<string>(undefined);
  const dragged = useRef<number>(undefined);
  const order = `${place} ${names.join(" ")}`;
  useEffect(() => {
    const name = pressed.current?.split(" ")[0];
    pressed.current = undefined;
    const buttons = [...(list.current?.querySelectorAll<HTMLButtonElement>("[data-move]:enabled") ?? [])].filter((one) => one.dataset["move"]?.startsWith(`${name} `));
    buttons.at(0)?.focus();
  }, [order]);
  const move = (number: number, by: -1 | 1) => {
    pressed.current = `${names[number]} ${by}`;
    onMove(number, number + by);
  };
  // While a rule is unfolded the pointer selects text in its fields instead.
  const dragging = (number: number, draggable: boolean) => ({
    draggable,
    onDragStart: () => (dragged.current = number),
    onDragOver: (event: React.DragEvent) => event.preventDefault(),
    onDrop: (event: React.DragEvent) => {
      // Not into a field of an unfolded rule either.
      event.preventDefault();
      const from = dragged.current;
      dragged.current = undefined;
      if (from !== undefined && from !== number) onMove(from, number);
    },
  });
  return { list, move, dragging };
}
