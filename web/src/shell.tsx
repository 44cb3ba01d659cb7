import { Link, Outlet, useParams } from "@tanstack/react-router";
import { Keyboard, Moon, Sun, X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";

import { Button, IconButton } from "./kit/parts";
import { useTheme } from "./kit/theme";
import { usePlans } from "./plan/queries";

/** The frame of every view: the bar on top, the view beneath. */
export function Shell() {
  const { key } = useParams({ strict: false });
  const plans = usePlans();
  const plan = plans.data?.find((one) => one.key === key);
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-11 shrink-0 items-center gap-4 bg-bar px-4 text-bar-ink">
        <Link to="/plans" className="flex items-center gap-2.5 rounded text-[16px] font-semibold">
          <Mark /> North Gate
        </Link>
        {plan && (
          <>
            <span className="h-5 w-px bg-bar-soft/40" />
            <span className="truncate">{plan.title}</span>
            <span className="shrink-0 rounded-full border border-bar-soft/60 px-2.5 text-[11px]">{plan.agreed === plan.revision ? "agreed" : "draft"}</span>
            <nav className="ml-6 flex h-full" aria-label="Views">
              <Link
                to="/plans/$key/board"
                params={{ key: plan.key }}
                search={{}}
                className="flex h-full items-center px-3 text-bar-soft [&.active]:font-semibold [&.active]:text-bar-ink [&.active]:shadow-[inset_0_-4px_0_var(--bar-ink)]"
              >
                Board
              </Link>
            </nav>
          </>
        )}
        <span className="ml-auto flex gap-2">
          <KeysHelp />
          <ThemeButton />
        </span>
      </header>
      <Outlet />
    </div>
  );
}

function Mark() {
  return (
    <svg width="20" height="24" viewBox="0 0 20 24" fill="none" stroke="currentColor" strokeWidth="2.2" aria-hidden="true">
      <path d="M2 23V10a8 8 0 0 1 16 0v13" />
      <path d="M10 22V10M6 14l4-4 4 4" />
    </svg>
  );
}

function ThemeButton() {
  const { theme, toggle } = useTheme();
  const next = theme === "day" ? "Night survey" : "Day survey";
  return (
    <Button tone="bar" className="px-1.5" aria-label={next} title={next} onClick={toggle}>
      {theme === "day" ? <Moon size={14} /> : <Sun size={14} />}
    </Button>
  );
}

const KEYS: [string, string][] = [
  ["x", "break what is focused or selected, or bring it back"],
  [".", "next event of the drill"],
  [",", "event before"],
  ["space", "play, pause"],
  ["← →", "on the time line: one second back, on"],
  ["Esc", "back to now"],
  ["?", "these keys"],
];

function KeysHelp() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.key === "?" && !(event.target instanceof HTMLInputElement)) setOpen((before) => !before);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button tone="bar" className="px-1.5" aria-label="Keys (?)" title="Keys (?)">
          <Keyboard size={14} />
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-bar/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 w-96 -translate-x-1/2 -translate-y-1/2 rounded border border-line-strong bg-panel p-5 shadow-xl" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1.5">
            {KEYS.map(([key, what]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="rounded border border-line-strong bg-paper px-1.5 font-mono text-[12px]">{key}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close asChild>
            <IconButton label="Close" className="absolute top-3 right-3">
              <X size={14} />
            </IconButton>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
