import { lazy, Suspense, useEffect, useState, type ComponentType } from "react";

// A board takes about so long from its plan to its first picture.
const QUIET_MS = 600;

/** What is loaded only when it is wanted. */
export interface Ahead {
  /** Loads it ahead; undefined once it is there. */
  ahead: () => Promise<unknown> | undefined;
}

/** A component that is loaded when it is first wanted, or ahead of that in a quiet moment; once it is there, it is shown at once. */
export function later<Props extends object>(load: () => Promise<ComponentType<Props>>): ComponentType<Props> & Ahead {
  let found: ComponentType<Props> | undefined;
  const get = async () => (found ??= await load());
  const Lazy = lazy(async () => ({ default: await get() })) as unknown as ComponentType<Props>;
  function Later(props: Props) {
    // As it was at first: what is waited for is not put in anew, with nothing typed into it, when the page is drawn again.
    const [Found] = useState(() => found);
    if (Found) return <Found {...props} />;
    return (
      <Suspense>
        <Lazy {...props} />
      </Suspense>
    );
  }
  Later.ahead = () => (found ? undefined : get());
  return Later;
}

/** Whether what was asked for has been there for a while: what is not seen at first is loaded then. */
export function useQuiet(ready: boolean): boolean {
  const [quiet, setQuiet] = useState(false);
  useEffect(() => {
    if (!ready) return;
    const timer = setTimeout(() => setQuiet(true), QUIET_MS);
    return () => clearTimeout(timer);
  }, [ready]);
  return quiet;
}
