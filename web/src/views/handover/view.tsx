/** What those who build the plan get: one sheet to print, and its parts as files. */
import { Download, ExternalLink } from "lucide-react";

import { Copyable } from "../../kit/copyable";
import { Skeleton } from "../../kit/parts";
import { usePlan } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { useRoute } from "../../plan/route";


const PARTS: { kind: string; title: string; says: string }[] = [
  { kind: "checklist", title: "Checklist", says: "every step in the order in which it can be built, with every value to type" },
  { kind: "firewall-csv", title: "Firewall rules", says: "who must reach whom, and which rule lets it through; what has none is to be added" },
  { kind: "dns-zone", title: "DNS records", says: "a zone file (RFC 1035)" },
  { kind: "targets-csv", title: "Targets", says: "every target with its address, port, weight and probe" },
  { kind: "checks", title: "Checks for the first day", says: "a shell script that asks names, ports, certificates and pages, and says what held" },
  { kind: "markdown", title: "The sheet as Markdown", says: "for a repository or a ticket" },
  { kind: "json", title: "All of it as JSON", says: "for programs" },
];

const TABLES = ["routes", "drills", "losses", "cost", "findings"];

export function HandoverView() {
  const { params: { key } } = useRoute("/plans/:key/handover");
  const plan = usePlan(key);
  if (plan.error) return <main id="main" className="flex-1 overflow-y-auto"><Trouble error={plan.error} /></main>;
  if (!plan.data) return <main id="main" className="flex-1 p-8" aria-label="Hand over"><Skeleton className="h-40" /></main>;
  const { head } = plan.data;
  const place = (kind: string, opened = false) => `/api/plans/${encodeURIComponent(key)}/export/${kind}?revision=${head.revision}${opened ? "&opened=true" : ""}`;
  return (
    <main id="main" className="min-h-0 flex-1 overflow-y-auto px-4 pt-4 pb-24 sm:px-7" aria-label="Hand over">
      <h1 className="text-xl font-semibold">Hand over</h1>
      <p className="mt-1 max-w-[70ch] text-ink-soft">
        {head.agreed === head.revision ? `Revision ${head.revision} is agreed: this is what is to be built.` : `Revision ${head.revision} is a draft${head.agreed === null ? "" : `; revision ${head.agreed} is agreed`}. What is handed over is what you see now.`}
      </p>
      <a className="mt-4 flex max-w-2xl items-baseline gap-3 rounded border border-ink bg-panel px-4 py-3 hover:bg-north-fill" href={place("html", true)} target="_blank" rel="noreferrer">
        <ExternalLink size={15} aria-hidden="true" className="self-center text-north" />
        <span>
          <b className="block text-[15px] font-semibold">Open the sheet, to print it</b>
          <span className="text-ink-soft">the board, steps, firewall rules, records, drills, losses, cost, open findings, assumptions and checks on one page</span>
        </span>
      </a>
      <ul className="mt-4 max-w-2xl" data-testid="exports">
        {PARTS.map(({ kind, title, says }) => (
          <li key={kind} className="flex items-baseline justify-between gap-4 border-b border-dotted border-line py-2">
            <span className="min-w-0">
              <b className="font-semibold">{title}</b>
              <span className="block text-ink-soft">{says}</span>
            </span>
            <a className="flex min-h-6 shrink-0 items-center gap-1.5 rounded border border-line-strong px-2 text-north hover:border-ink" href={place(kind)} download>
              <Download size={13} aria-hidden="true" /> Keep<span className="sr-only"> {title}</span>
            </a>
          </li>
        ))}
      </ul>
      <p className="mt-3 flex max-w-2xl flex-wrap items-baseline gap-x-4" data-testid="tables">
        <b className="font-semibold">Its tables as CSV:</b>
        {TABLES.map((one) => <a key={one} className="min-h-6 text-north hover:underline" href={place(`${one}-csv`)} download>{one}</a>)}
      </p>
      <p className="mt-4 text-ink-soft">
        From a file: <Copyable text={`northgate export ${key}.plan.yaml --as html > ${key}.html`} />
      </p>
    </main>
  );
}
