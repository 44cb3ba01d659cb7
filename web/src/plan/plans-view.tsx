import { Link } from "@tanstack/react-router";

import { Trouble } from "../board/trouble";
import { amount } from "../kit/format";
import { usePlans } from "./queries";

/** All plans. */
export function PlansView() {
  const plans = usePlans();
  if (plans.error) return <Trouble error={plans.error} />;
  return (
    <main className="mx-auto w-full max-w-3xl flex-1 overflow-y-auto p-8">
      <h1 className="text-2xl font-semibold">Plans</h1>
      <ul className="mt-4 space-y-2">
        {plans.data?.map((plan) => (
          <li key={plan.key}>
            <Link
              to="/plans/$key/board"
              params={{ key: plan.key }}
              search={{}}
              className="flex items-baseline justify-between gap-4 rounded border border-line-strong bg-panel px-4 py-3 hover:border-north"
            >
              <b className="text-base font-semibold">{plan.title}</b>
              <span className="text-ink-soft">
                {amount(plan.zones)} zones · {amount(plan.instances)} machines · {amount(plan.drills)} drills · revision {plan.revision}
              </span>
            </Link>
          </li>
        ))}
      </ul>
      {plans.data?.length === 0 && (
        <p className="mt-4 text-ink-soft">
          There is no plan yet. Start with the demo: <code className="font-mono">northgate demo</code>.
        </p>
      )}
    </main>
  );
}
