/** The keys: every one that works everywhere in a view, what it does, and how it is bound. Nowhere else are keys listened to but in what has the focus. */

import { useHotkeys } from "react-hotkeys-hook";

interface Key {
  /** As the browser calls it (`KeyboardEvent.key`, in lower case), or `space`. */
  key: string;
  /** With Control, or the command key. */
  control?: boolean;
  shift?: boolean;
  /** Inside dialogs too. */
  everywhere?: boolean;
  /** In a choice too, where letters choose. */
  inChoices?: boolean;
}

export const KEYS = {
  find: { key: "/", inChoices: true },
  add: { key: "a" },
  undo: { key: "z", control: true, inChoices: true },
  redo: { key: "z", control: true, shift: true, inChoices: true },
  redoToo: { key: "y", control: true, inChoices: true },
  breakIt: { key: "x" },
  trace: { key: "t" },
  nextEvent: { key: "." },
  eventBefore: { key: "," },
  play: { key: "space" },
  back: { key: "escape" },
  help: { key: "?", everywhere: true, inChoices: true },
  leave: { key: "escape", everywhere: true },
} satisfies Record<string, Key>;

/** The keys as the help tells them, those of the time line too, which has the focus for its own. */
export const HELP: [string, string][] = [
  ["/", "find any object or action"],
  ["a", "add to the plan"],
  ["Ctrl Z", "undo; with Shift: redo"],
  ["x", "break what is focused or selected, or bring it back"],
  ["t", "trace here: from the client, or the probe of the target that is focused or selected"],
  [".", "next event of the drill"],
  [",", "event before"],
  ["space", "play, pause"],
  ["← →", "on the time line: one second back, on"],
  ["Esc", "back to now"],
  ["?", "these keys"],
];

function isInDialog(event: KeyboardEvent): boolean {
  return event.target instanceof HTMLElement && event.target.closest("[role=dialog]") !== null;
}

const WRITTEN_IN = "input:not([type=checkbox],[type=radio],[type=range]), textarea, [contenteditable=true]";

/** Whether the press is meant for what has the focus: text is typed there, or a choice made by letters. */
export function isForField(target: { matches: (selector: string) => boolean }, { inChoices = false }: Key): boolean {
  return target.matches(WRITTEN_IN) || (!inChoices && target.matches("select"));
}

/** Whether a press has the modifiers that a key asks for, and no others; `?` and the like need Shift on most keyboards. */
export function fits(event: Pick<KeyboardEvent, "ctrlKey" | "metaKey" | "altKey" | "shiftKey">, { key, control = false, shift = false }: Key): boolean {
  const letter = /^[a-z]$/.test(key);
  return (event.ctrlKey || event.metaKey) === control && !event.altKey && (!letter || event.shiftKey === shift);
}

/** How a key is bound. */
function bindingOf(key: Key) {
  return {
    // By the sign that is typed, wherever it stands on the keyboard; only the space bar has none.
    useKey: key.key !== "space",
    ignoreModifiers: true,
    delimiter: "|",
    enableOnFormTags: true,
    ignoreEventWhen: (event: KeyboardEvent) => (!key.everywhere && isInDialog(event)) || (event.target instanceof HTMLElement && isForField(event.target, key)),
  };
}

// The same ones each time that a caller is drawn: others would be bound anew.
const BINDINGS = new Map(Object.values<Key>(KEYS).map((key) => [key, bindingOf(key)]));

/** Binds a key while the caller is shown; `act` returns false when it had nothing to do, so that the browser may. Text fields keep their keys. */
export function useKey(name: keyof typeof KEYS, act: () => unknown): void {
  const key: Key = KEYS[name];
  useHotkeys(
    key.key,
    (event) => {
      if (fits(event, key) && act() !== false) event.preventDefault();
    },
    BINDINGS.get(key),
  );
}

/** Whether a button has the focus, which the space bar presses. */
export function onButton(): boolean {
  return document.activeElement instanceof HTMLButtonElement;
}
