import { useEffect, type ComponentType } from "react";
import { Route, Router as Routes, Switch, type AroundNavHandler } from "wouter";

import { later, type Ahead } from "../kit/later";
import { placeAt, type Place } from "../plan/places";
import { usePlans } from "../plan/queries";
import { Link, useNavigate } from "../plan/route";
import { Reading } from "../views/board/reading";
import { BoardView } from "../views/board/view";
import { firstTour } from "../views/start/tour-steps";
import { Shell } from "./shell";

const LATER = {
  "/plans": later(async () => (await import("../views/plans/view")).PlansView),
  "/start": later(async () => (await import("../views/start/view")).StartView),
  "/plans/:key/drill": later(async () => (await import("../views/drill/view")).DrillView),
  "/plans/:key/trace": later(async () => (await import("../views/trace/view")).TraceView),
  "/plans/:key/findings": later(async () => (await import("../views/findings/view")).FindingsView),
  "/plans/:key/losses": later(async () => (await import("../views/losses/view")).LossesView),
  "/plans/:key/sizing": later(async () => (await import("../views/losses/sizing")).SizingView),
  "/plans/:key/compare": later(async () => (await import("../views/compare/view")).CompareView),
  "/plans/:key/handover": later(async () => (await import("../views/handover/view")).HandoverView),
  "/plans/:key/sheets/:sheet": later(async () => (await import("../views/sheets/view")).SheetsView),
  "/plans/:key/index": later(async () => (await import("../views/index/view")).IndexView),
} satisfies Partial<Record<Place, ComponentType & Ahead>>;

const VIEWS: [Place, ComponentType][] = [["/", Door], ["/plans/:key/board", BoardView], ...(Object.entries(LATER) as [keyof typeof LATER, ComponentType][])];

let latest = 0;

/** Goes to a view once it is loaded: until then the one before stays. */
const onceLoaded: AroundNavHandler = (go, to, options) => {
  const mine = ++latest;
  const place = placeAt(new URL(to, location.href).pathname);
  const loading = place !== undefined && place in LATER ? LATER[place as keyof typeof LATER].ahead() : undefined;
  if (!loading) return go(to, options);
  const arrive = () => {
    if (mine === latest) go(to, options);
  };
  // Where it cannot be loaded, the view itself says so.
  void loading.then(arrive, arrive);
};

/** The frame, and in it the view that the address names. */
export function App() {
  return (
    <Routes aroundNav={onceLoaded}>
      <Shell>
        <Switch>
          {VIEWS.map(([path, View]) => <Route key={path} path={path}><View /></Route>)}
          <Route><Nowhere /></Route>
        </Switch>
      </Shell>
    </Routes>
  );
}

/** The door: one plan is opened at once, several are listed. */
function Door() {
  const navigate = useNavigate();
  const { data: found, isPending } = usePlans();
  useEffect(() => {
    if (isPending) return;
    const only = found?.length === 1 ? found[0] : undefined;
    if (only) firstTour();
    if (only) navigate({ to: "/plans/:key/board", params: { key: only.key }, replace: true });
    else navigate({ to: "/plans", replace: true });
  }, [found, isPending, navigate]);
  // The page is there before the plans are.
  return (
    <main id="main" className="flex min-h-0 flex-1" aria-label="Plans">
      <Reading called="Opening the plans" />
    </main>
  );
}

function Nowhere() {
  return (
    <main id="main" className="p-7" aria-label="Nothing here">
      <h1 className="mb-2 text-xl font-semibold">There is nothing at this address</h1>
      <Link to="/plans" className="text-north hover:underline">All plans</Link>
    </main>
  );
}
