import { useCallback, useMemo, type AnchorHTMLAttributes } from "react";
import { Link as Anchor, useLocation, useParams, useRoute as useMatch } from "wouter";
import { useSearch } from "wouter/use-browser-location";

import { hrefOf, PLACES, readPart, readWritten, type ParamsOf, type Place, type SearchOf, type Where } from "./places";

type Going<To extends Place> = Where<To> & { replace?: boolean };
type Changed<To extends Place> = SearchOf<To> | ((before: SearchOf<To>) => SearchOf<To>);

/** What the address says now, to a view. */
export const searchNow = <To extends Place>(to: To, written = location.search) => PLACES[to](readWritten(written)) as SearchOf<To>;

/** The path of the view that is shown. */
export const usePath = () => useLocation()[0];

/** The plan that the view shows, if it is one of a plan. */
export function useKeyOfPlan(): string | undefined {
  const [, named] = useMatch("/plans/:key/*");
  return named ? readPart(named.key) : undefined;
}

/** How one goes to another view, or to another state of one. */
export function useNavigate() {
  const [, go] = useLocation();
  return useCallback(
    <To extends Place>({ to, params, search, replace = false }: Going<To>) => {
      go(hrefOf(to, params, search), { replace });
    },
    [go],
  );
}

/** The view that is shown: of which plan, what the address says of it, and how it is told to say something else. */
export function useRoute<To extends Place>(to: To) {
  const [, go] = useLocation();
  const named = useParams();
  const written = useSearch();
  const search = useMemo(() => searchNow(to, written), [to, written]);
  const params = useMemo(() => Object.fromEntries(Object.entries(named).map(([name, value]) => [name, readPart(value ?? "")])) as ParamsOf<To>, [named]);
  const say = useCallback(
    (made: Changed<To>, replace = false) => {
      go(hrefOf(to, params, typeof made === "function" ? (made as (before: SearchOf<To>) => SearchOf<To>)(searchNow(to)) : made), { replace });
    },
    [go, to, params],
  );
  return { params, search, say };
}

type LinkProps<To extends Place> = Where<To> &
  Omit<AnchorHTMLAttributes<HTMLAnchorElement>, "href"> & {
    /** A tab shows that its view is there, whatever the address says of it. */
    tab?: boolean;
  };

/** A way to another view. */
export function Link<To extends Place>({ to, params, search, tab = false, className = "", ...others }: LinkProps<To>) {
  const current = usePath() === hrefOf(to, params, undefined) && tab;
  return <Anchor to={hrefOf(to, params, search)} className={current ? `${className} active` : className} {...(current ? { "aria-current": "page" } : {})} {...others} />;
}
