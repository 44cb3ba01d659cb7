import { X } from "lucide-react";
import { useEffect, useRef } from "react";

import { useKey } from "../../kit/keys";
import { Button, IconButton } from "../../kit/parts";
import { usePlan } from "../../plan/queries";
import { leaveTour, tourSteps, tourTo, useTourStep } from "./tour-steps";
import { useNavigate } from "../../plan/route";

const VIEWS = { board: "/plans/:key/board", drill: "/plans/:key/drill", trace: "/plans/:key/trace" } as const;

/** The tour's card: it stands beside the work and never in its way; Escape leaves it. */
export function Tour({ planKey }: { planKey: string }) {
  const at = useTourStep();
  return at === undefined ? null : <Card planKey={planKey} at={at} />;
}

function Card({ planKey, at }: { planKey: string; at: number }) {
  const plan = usePlan(planKey);
  const navigate = useNavigate();
  const onward = useRef<HTMLButtonElement>(null);
  const steps = plan.data ? tourSteps(plan.data.document) : [];
  const step = steps[at];
  useEffect(() => {
    onward.current?.focus();
  }, [at]);
  useKey("leave", leaveTour);
  if (!step) return null;
  const go = (next: number) => {
    const to = steps[next];
    if (!to) return leaveTour();
    tourTo(next);
    navigate({ to: VIEWS[to.view], params: { key: planKey }, search: to.search });
  };
  return (
    <section role="dialog" aria-label={`Tour, step ${at + 1} of ${steps.length}`} className={`fixed right-2 z-20 w-[min(300px,calc(100vw-16px))] rounded ${step.view === "board" ? "top-14 max-md:top-auto max-md:bottom-2" : "bottom-2"} print:hidden border border-north bg-panel p-4 text-[13px] text-ink shadow-xl`}>
      <div className="mb-1.5 flex items-center justify-between">
        <span className="text-[12px] text-ink-soft">
          {at + 1} of {steps.length}
        </span>
        <IconButton quiet label="Leave the tour (Escape)" onClick={leaveTour}>
          <X size={14} />
        </IconButton>
      </div>
      <p className="leading-snug">{step.words}</p>
      <div className="mt-3 flex gap-2">
        {at > 0 && <Button onClick={() => go(at - 1)}>Back</Button>}
        <Button ref={onward} className="ml-auto" onClick={() => go(at + 1)}>
          {at + 1 < steps.length ? "Next" : "Done"}
        </Button>
      </div>
    </section>
  );
}
