import { ArrowLeft, Clock, Hourglass, PanelBottomClose, PanelBottomOpen, PanelRightClose, PanelRightOpen, Plus, TriangleAlert } from "lucide-react";
import { lazy, Suspense } from "react";

import { Button, IconButton } from "../../kit/parts";
import { clock } from "../../kit/format";
import type { Looking } from "../../plan/moment";
import type { Moment } from "../../plan/searches";

/** Its buttons are not needed before something breaks, but then at once. */
export const loadWhatIf = () => import("./what-if");
const WhatIf = lazy(async () => ({ default: (await loadWhatIf()).WhatIf }));

interface BannerProps {
  looking: Looking;
  onMoment: (moment: Moment) => void;
  onNow: () => void;
  clients: string[];
  only: string | undefined;
  onOnly: (only: string | undefined) => void;
  away: Away;
  onAway: (away: Away) => void;
  /** How many things in the plan contradict each other or are left open, and a way to them. */
  problems: number;
  onProblems: () => void;
}

/** What is folded away to leave the board more room. */
export interface Away {
  inspector: boolean;
  foot: boolean;
}

/** Says what one looks at: now, a second of a drill, a what if, or something that is being added. */
export function Banner({ looking, onMoment, onNow, clients, only, onOnly, away, onAway, problems, onProblems }: BannerProps) {
  const tones = { now: "bg-paper", drill: "bg-north-fill", "what-if": looking.mode === "what-if" && looking.change === "added" ? "bg-north-fill" : "bg-vermilion-fill", adding: "bg-foot" };
  return (
    <div
      className={`flex min-h-9 shrink-0 flex-wrap items-center gap-x-3 gap-y-1 border-b border-line px-3 py-1 md:py-0.5 ${looking.mode === "what-if" ? "" : "md:h-9 md:flex-nowrap"} ${tones[looking.mode]}`}
      role="status"
      data-testid="banner"
      data-mode={looking.mode}
    >
      {looking.mode === "now" && (
        <p className="flex items-center gap-2">
          <Clock size={15} aria-hidden="true" />
          <b className="font-semibold">Now</b>
          <span className="truncate text-ink-soft max-md:hidden">no fault; break a zone, a front or a target to see what would happen</span>
        </p>
      )}
      {looking.mode === "drill" && (
        <p className="flex items-center gap-2">
          <Hourglass size={15} aria-hidden="true" />
          <b className="font-semibold">Second {Math.round(looking.at * 10) / 10}</b>
          <span className="text-ink-soft">of “{looking.drill.title || looking.drill.name}” · {clock(looking.at)}</span>
        </p>
      )}
      {looking.mode === "adding" && (
        <p className="flex min-w-0 items-center gap-2">
          <Plus size={15} className="shrink-0" aria-hidden="true" />
          <span className="truncate">
            As it would be with <b className="font-semibold">{looking.words}</b>
          </span>
        </p>
      )}
      {looking.mode === "what-if" && (
        <Suspense>
          <WhatIf looking={looking} onMoment={onMoment} />
        </Suspense>
      )}
      <span className="ml-auto flex flex-wrap items-center gap-x-3 gap-y-1 md:shrink-0 md:flex-nowrap">
        {problems > 0 && (
          <button type="button" className="flex min-h-6 shrink-0 items-center gap-1 rounded border border-ochre bg-panel px-1.5 text-[12px] font-medium text-ochre-text" onClick={onProblems}>
            <TriangleAlert size={13} aria-hidden="true" /> {problems} <span className={looking.mode === "what-if" ? "sr-only" : ""}>{problems === 1 ? "problem" : "problems"}</span>
          </button>
        )}
        <select
          aria-label="Rows shown"
          className={`min-h-6 w-28 shrink-0 rounded border bg-panel print:hidden px-1.5 text-[12px] ${only ? "border-north font-medium text-north" : "border-line-strong"}`}
          value={only ?? ""}
          onChange={(event) => onOnly(event.target.value || undefined)}
        >
          <option value="">all groups</option>
          <option value="touched">what this fault touches</option>
          {clients.map((client) => (
            <option key={client} value={`client:${client}`}>
              what {client} reach
            </option>
          ))}
        </select>
        {looking.mode !== "now" && looking.mode !== "adding" && (
          <Button className="shrink-0 text-[12px]" onClick={onNow}>
            <ArrowLeft size={13} aria-hidden="true" /> back to now
          </Button>
        )}
        <span className="flex shrink-0 print:hidden">
          <IconButton quiet label={away.foot ? "Show the time line" : "Fold away the time line"} aria-expanded={!away.foot} onClick={() => onAway({ ...away, foot: !away.foot })}>
            {away.foot ? <PanelBottomOpen size={15} /> : <PanelBottomClose size={15} />}
          </IconButton>
          <IconButton quiet label={away.inspector ? "Show the inspector" : "Fold away the inspector"} aria-expanded={!away.inspector} onClick={() => onAway({ ...away, inspector: !away.inspector })}>
            {away.inspector ? <PanelRightOpen size={15} /> : <PanelRightClose size={15} />}
          </IconButton>
        </span>
      </span>
    </div>
  );
}
