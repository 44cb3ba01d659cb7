/** The index of the plan: everything that is in it, what uses it, and what is used by nobody. */
import { Plus } from "lucide-react";
import { useMemo, useState } from "react";
import type { PlanDocument, Schemas } from "../../api/client";
import { counted } from "../../kit/format";
import { Copyable } from "../../kit/copyable";
import { useRoving } from "../../kit/roving";
import { INDEX_KINDS, selectionOf } from "../../plan/kinds";
import { useIndex, usePlan } from "../../plan/queries";
import { formatSelection } from "../../plan/selection";
import { Trouble } from "../../plan/trouble";
import { SHEET_OF } from "../../plan/sheet-names";
import { Link, useRoute } from "../../plan/route";

type Entry = Schemas["IndexEntry"];

/** More rows of a kind than this are asked for. */
const MOST_ROWS = 100;
/** What can be added from here: the others stand within these. */
const ADDED: Record<string, string> = { target_group: "group", subnet: "network", zone: "region" };

export function IndexView() {
  const { params: { key } } = useRoute("/plans/:key/index");
  const plan = usePlan(key);
  const index = useIndex({ key, revision: plan.data?.head.revision });
  const [filter, setFilter] = useState("");
  const [unusedOnly, setUnusedOnly] = useState(false);
  const entries = useMemo(() => found(index.data?.entries ?? [], filter, unusedOnly), [index.data, filter, unusedOnly]);
  if (plan.error ?? index.error) return <Trouble error={plan.error ?? (index.error as Error)} />;
  if (!plan.data || !index.data) return <main className="p-8 text-ink-soft">Reading the plan …</main>;
  const unused = index.data.entries.filter((one) => one.unused).length;
  return (
    <div className="flex min-h-0 flex-1">
      <nav className="hidden w-52 shrink-0 overflow-y-auto border-r border-line bg-foot px-2 py-3 md:block" aria-label="Kinds">
        <ul>
          {INDEX_KINDS.map(([kind, title]) => {
            const mine = index.data.entries.filter((one) => one.kind === kind);
            const loose = mine.filter((one) => one.unused).length;
            return (
              <li key={kind}>
                <a href={`#${kind}`} className="flex min-h-6 items-baseline justify-between gap-2 rounded px-2 py-0.5 hover:bg-line/60">
                  <span>{title}</span>
                  <span className="text-[12px] text-ink-soft tabular-nums">
                    {loose > 0 && <span className="mr-1.5 text-ochre-text">{loose} unused</span>}
                    {mine.length}
                  </span>
                </a>
              </li>
            );
          })}
        </ul>
      </nav>
      <main id="main" className="min-w-0 flex-1 overflow-y-auto px-4 pt-4 pb-10 sm:px-7" aria-label="Index">
        <header className="mb-3 flex flex-wrap items-center gap-3">
          <h1 className="text-xl font-semibold">Index</h1>
          <input aria-label="Filter" placeholder="Filter" className="min-h-6 w-52 rounded border border-line-strong bg-panel px-2" value={filter} onChange={(event) => setFilter(event.target.value)} />
          <label className="flex items-center gap-1.5">
            <input type="checkbox" className="size-6 scale-75 accent-north" checked={unusedOnly} onChange={() => setUnusedOnly(!unusedOnly)} />
            used by nobody ({unused})
          </label>
          <span className="text-ink-soft" data-testid="index-count">{counted(entries.length, "object")}</span>
        </header>
        <Kinds planKey={key} document={plan.data.document} entries={entries} whole={filter === "" && !unusedOnly} />
      </main>
    </div>
  );
}

function found(entries: Entry[], filter: string, unusedOnly: boolean): Entry[] {
  const wanted = filter.toLowerCase().split(/\s+/).filter(Boolean);
  return entries.filter((one) => {
    const text = `${one.kind} ${one.name} ${one.says} ${one.addresses.join(" ")}`.toLowerCase();
    return (!unusedOnly || one.unused) && wanted.every((word) => text.includes(word));
  });
}

interface KindsProps {
  planKey: string;
  document: PlanDocument;
  entries: Entry[];
  /** Nothing is filtered: kinds of which there is none are told too. */
  whole: boolean;
}

function Kinds({ planKey, document, entries, whole }: KindsProps) {
  const roving = useRoving();
  if (entries.length === 0 && !whole) return <p className="text-ink-soft">Nothing of the plan fits that.</p>;
  return (
    <div {...roving}>
      {INDEX_KINDS.map(([kind, title]) => {
        const mine = entries.filter((one) => one.kind === kind);
        return mine.length > 0 || whole ? <Kind key={kind} planKey={planKey} document={document} kind={kind} title={title} entries={mine} /> : null;
      })}
    </div>
  );
}

interface KindProps {
  planKey: string;
  document: PlanDocument;
  kind: string;
  title: string;
  entries: Entry[];
}

function Kind({ planKey, document, kind, title, entries }: KindProps) {
  const [all, setAll] = useState(false);
  const shown = all ? entries : entries.slice(0, MOST_ROWS);
  const sheet = SHEET_OF[kind];
  return (
    <section id={kind} className="mb-5 scroll-mt-3" aria-label={title}>
      <h2 className="flex items-baseline gap-3 border-b border-line pb-0.5 font-semibold">
        {title} <span className="text-[12px] font-normal text-ink-soft">{entries.length}</span>
        <span className="ml-auto flex gap-3 text-[12px] font-normal">
          {sheet && (
            <Link to="/plans/:key/sheets/:sheet" params={{ key: planKey, sheet }} className="text-north hover:underline">
              as a sheet
            </Link>
          )}
          {kind !== "listener" || document.balancers.length > 0 ? (
            <Link to="/plans/:key/board" params={{ key: planKey }} search={{ add: ADDED[kind] ?? kind }} className="flex items-center gap-0.5 text-north hover:underline" aria-label={`Add to ${title.toLowerCase()}`}>
              <Plus size={12} aria-hidden="true" /> add
            </Link>
          ) : null}
        </span>
      </h2>
      {entries.length === 0 && <p className="py-1 text-ink-soft">none yet</p>}
      <ul>
        {shown.map((entry) => (
          <Row key={entry.name} planKey={planKey} document={document} entry={entry} />
        ))}
      </ul>
      {entries.length > shown.length && (
        <button type="button" className="min-h-6 text-north hover:underline" onClick={() => setAll(true)}>
          and {entries.length - shown.length} more
        </button>
      )}
    </section>
  );
}

function Row({ planKey, document, entry }: { planKey: string; document: PlanDocument; entry: Entry }) {
  const networkOf = (subnet: string) => document.networks.find((one) => one.subnets.some((inner) => inner.name === subnet))?.name;
  const open = { key: planKey };
  const name = "min-h-6 font-medium [overflow-wrap:anywhere] hover:text-north hover:underline";
  return (
    <li className="grid gap-x-4 border-b border-dotted border-line py-1 sm:grid-cols-[minmax(0,1.1fr)_minmax(0,1.6fr)_minmax(0,1.5fr)]">
      {entry.kind === "drill" ? (
        <Link to="/plans/:key/drill" params={open} search={{ drill: entry.name }} className={name} data-roving>
          {entry.name}
        </Link>
      ) : (
        <Link to="/plans/:key/board" params={open} search={{ select: formatSelection(selectionOf(entry, networkOf)) }} className={name} data-roving>
          {entry.name}
        </Link>
      )}
      <span className="text-ink-soft [overflow-wrap:anywhere]">
        {entry.says}
        {entry.addresses.length === 1 && entry.addresses[0] && <Copyable className="ml-2" text={entry.addresses[0]} />}
        {entry.addresses.length > 1 && entry.kind === "balancer" && entry.addresses.map((one) => <Copyable key={one} className="ml-2" text={one} />)}
      </span>
      <Users planKey={planKey} entry={entry} networkOf={networkOf} />
    </li>
  );
}

const MOST_USERS = 3;

function Users({ planKey, entry, networkOf }: { planKey: string; entry: Entry; networkOf: (subnet: string) => string | undefined }) {
  const [all, setAll] = useState(false);
  const users = all ? entry.used_by : entry.used_by.slice(0, MOST_USERS);
  const more = entry.used_by.length - users.length;
  return (
    <span className="text-[12px] [overflow-wrap:anywhere]">
      {entry.unused && <b className="font-semibold text-ochre-text">used by nobody{entry.used_by.length > 0 ? "; named by " : ""}</b>}
      {!entry.unused && entry.used_by.length > 0 && <span className="text-ink-soft">used by </span>}
      {users.map((one, place) => (
        <span key={`${one.kind} ${one.name}`}>
          {place > 0 && ", "}
          {one.kind === "drill" ? (
            <Link to="/plans/:key/drill" params={{ key: planKey }} search={{ drill: one.name }} className="text-north hover:underline">
              {one.name}
            </Link>
          ) : (
            <Link to="/plans/:key/board" params={{ key: planKey }} search={{ select: formatSelection(selectionOf(one, networkOf)) }} className="text-north hover:underline">
              {one.name}
            </Link>
          )}
        </span>
      ))}
      {more > 0 && (
        <button type="button" className="ml-1 text-ink-soft hover:underline" onClick={() => setAll(true)}>
          and {more} more
        </button>
      )}
    </span>
  );
}
