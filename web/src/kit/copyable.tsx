import { Check, Copy } from "lucide-react";
import { useState } from "react";

/** Text to take along, such as an address or a command, with a button that copies it. */
export function Copyable({ text, className = "" }: { text: string; className?: string }) {
  const [done, setDone] = useState(false);
  const copy = () =>
    void navigator.clipboard.writeText(text).then(() => {
      setDone(true);
      setTimeout(() => setDone(false), 1500);
    });
  return (
    <span className={`inline-flex max-w-full items-center gap-0.5 align-middle ${className}`}>
      <code className="min-w-0 font-mono text-[12px] text-ink [overflow-wrap:anywhere]">{text}</code>
      <button type="button" className="grid size-6 shrink-0 place-items-center rounded text-ink-soft hover:text-ink" aria-label={done ? `${text} is copied` : `Copy ${text}`} title={done ? "Copied" : "Copy"} onClick={copy}>
        {done ? <Check size={13} /> : <Copy size={13} />}
      </button>
    </span>
  );
}
