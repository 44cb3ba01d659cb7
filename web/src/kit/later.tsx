import { lazy, Suspense, useEffect, type ComponentType } from "react";

/** A component that is loaded when it is first wanted, or ahead of that in a quiet moment; once it is there, it is shown at once. */
export function later<Props extends object>(load: () => Promise<ComponentType<Props>>): ComponentType<Props> & { ahead: () => void } {
  let found: ComponentType<Props> | undefined;
  const get = async () => (found ??= await load());
  const Lazy = lazy(async () => ({ default: await get() })) as unknown as ComponentType<Props>;
  function Later(props: Props) {
    const Found = found;
    if (Found) return <Found {...props} />;
    return (
      <Suspense>
        <Lazy {...props} />
      </Suspense>
    );
  }
  Later.ahead = () => void get();
  return Later;
}

/** Loads what is likely to be wanted once the page has come to rest. */
export function useAhead(...components: { ahead: () => void }[]): void {
  useEffect(() => {
    const timer = setTimeout(() => components.forEach((one) => one.ahead()), 300);
    return () => clearTimeout(timer);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once
  }, []);
}
