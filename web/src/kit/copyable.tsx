import { Check, Copy } from "lucide-react";
import { useRef, useState } from "react";

import { notify } from "./notify";

/** Text to take along, such as an address or a command, with a button that copies it. */
export function Copyable({ text, className = "" }: { text: string; className?: string }) {
  const [done, setDone] = useState(false);
  const shown = useRef<HTMLElement>(null);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
      setDone(true);
      setTimeout(() => setDone(false), 1500);
    } catch {
      // A browser may not let pages write there: it may be asked not to, or the page comes from another machine.
      if (shown.current) getSelection()?.selectAllChildren(shown.current);
      notify("The browser does not let it be copied. It is selected: copy it with the keyboard.", { tone: "warning", id: "copying" });
    }
  };
  return (
    <span className={`inline-flex max-w-full items-center gap-0.5 align-middle ${className}`}>
      <code ref={shown} className="min-w-0 font-mono text-[12px] text-ink [overflow-wrap:anywhere]">{text}</code>
      <button type="button" className="grid size-6 shrink-0 place-items-center rounded text-ink-soft hover:text-ink" aria-label={done ? `${text} is copied` : `Copy ${text}`} title={done ? "Copied" : "Copy"} onClick={() => void copy()}>
        {done ? <Check size={13} /> : <Copy size={13} />}
      </button>
    </span>
  );
}
