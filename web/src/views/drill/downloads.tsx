import { Download } from "lucide-react";

import type { DrillAnswer } from "../../api/client";
import { IconButton } from "../../kit/parts";
import { seriesAsCsv } from "./script";

/** The charts as a picture, and their numbers as a table. */
export function Downloads({ drill, svg }: { drill: DrillAnswer; svg: () => SVGSVGElement | null }) {
  const keep = (kind: "svg" | "csv") => {
    const element = svg();
    const text = kind === "csv" ? seriesAsCsv(drill.series) : element ? withTones(element) : "";
    const link = window.document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: kind === "csv" ? "text/csv" : "image/svg+xml" }));
    link.download = `${drill.name}.${kind}`;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <p className="mt-2 flex items-center gap-2 pl-[120px] text-[12px] text-ink-soft">
      {(["svg", "csv"] as const).map((kind) => (
        <span key={kind} className="flex items-center gap-1">
          <IconButton label={`Download as ${kind.toUpperCase()}`} onClick={() => keep(kind)}>
            <Download size={12} />
          </IconButton>
          {kind.toUpperCase()}
        </span>
      ))}
    </p>
  );
}

/** An SVG that stands by itself: the tones that it takes from the page are written into it. */
function withTones(element: SVGSVGElement): string {
  const style = getComputedStyle(window.document.documentElement);
  const text = new XMLSerializer().serializeToString(element);
  return text.replaceAll(/var\((--[a-z0-9-]+)\)/g, (_, name: string) => style.getPropertyValue(name).trim() || "black").replace("<svg ", '<svg font-family="sans-serif" font-size="11" ');
}
