import { createRootRoute, createRoute, createRouter, lazyRouteComponent, redirect } from "@tanstack/react-router";

import { BoardView } from "../views/board/view";
import { readSearch } from "../plan/view";
import { readCompareSearch, readFindingsSearch, readLossesSearch, readSizingSearch, type SizingSearch } from "../plan/judging-search";
import { Shell } from "./shell";
import { readTraceSearch } from "../views/trace/question";
import { firstTour } from "../views/start/tour-steps";
import { api, dataOf } from "../api/client";

const root = createRootRoute({ component: Shell });

/** The door: one plan is opened at once, several are listed. */
const door = createRoute({
  getParentRoute: () => root,
  path: "/",
  loader: async () => {
    const plans = dataOf(await api.GET("/api/plans"));
    const only = plans.length === 1 ? plans[0] : undefined;
    if (only) firstTour();
    throw only ? redirect({ to: "/plans/$key/board", params: { key: only.key }, search: {} }) : redirect({ to: "/plans" });
  },
});

const plans = createRoute({ getParentRoute: () => root, path: "/plans", component: lazyRouteComponent(() => import("../views/plans/view"), "PlansView") });

const board = createRoute({
  getParentRoute: () => root,
  path: "/plans/$key/board",
  validateSearch: readSearch,
  component: BoardView,
});

const sheets = createRoute({ getParentRoute: () => root, path: "/plans/$key/sheets/$sheet", component: lazyRouteComponent(() => import("../views/sheets/view"), "SheetsView") });

const index = createRoute({ getParentRoute: () => root, path: "/plans/$key/index", component: lazyRouteComponent(() => import("../views/index/view"), "IndexView") });
const drill = createRoute({ getParentRoute: () => root, path: "/plans/$key/drill", validateSearch: readSearch, component: lazyRouteComponent(() => import("../views/drill/view"), "DrillView") });

const trace = createRoute({ getParentRoute: () => root, path: "/plans/$key/trace", validateSearch: readTraceSearch, component: lazyRouteComponent(() => import("../views/trace/view"), "TraceView") });

const findings = createRoute({ getParentRoute: () => root, path: "/plans/$key/findings", validateSearch: readFindingsSearch, component: lazyRouteComponent(() => import("../views/findings/view"), "FindingsView") });
const losses = createRoute({ getParentRoute: () => root, path: "/plans/$key/losses", validateSearch: readLossesSearch, component: lazyRouteComponent(() => import("../views/losses/view"), "LossesView") });
const sizing = createRoute({ getParentRoute: () => root, path: "/plans/$key/sizing", validateSearch: (search: Record<string, unknown>): Partial<SizingSearch> => readSizingSearch(search), component: lazyRouteComponent(() => import("../views/losses/sizing"), "SizingView") });

const compare = createRoute({ getParentRoute: () => root, path: "/plans/$key/compare", validateSearch: readCompareSearch, component: lazyRouteComponent(() => import("../views/compare/view"), "CompareView") });
const handover = createRoute({ getParentRoute: () => root, path: "/plans/$key/handover", component: lazyRouteComponent(() => import("../views/handover/view"), "HandoverView") });

const start = createRoute({ getParentRoute: () => root, path: "/start", component: lazyRouteComponent(() => import("../views/start/view"), "StartView") });

export const router = createRouter({ routeTree: root.addChildren([door, plans, board, trace, drill, losses, sizing, findings, compare, handover, sheets, index, start]), defaultPreload: false });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}
