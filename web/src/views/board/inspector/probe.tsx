/** What a probe's settings mean in seconds. */

import { secondsRange, seconds } from "../../../kit/format";
import { sumOfBounds } from "../../../plan/bounds";
import { Section } from "../../../kit/parts";
import { Settings, type InspectorProps } from "./shared";

export function ProbeSection(props: InspectorProps & { probe: string | undefined }) {
  const { document, probe } = props;
  if (!document.probes.some((one) => one.name === probe) || !probe) {
    return (
      <Section title="No probe">
        <p className="text-ink-soft">Nobody watches these targets: whatever happens, they stay in use.</p>
      </Section>
    );
  }
  return (
    <>
      <Settings {...props} kind="probe" name={probe} title={`Probe ${probe}`} inside={{ path: "", definition: "Probe" }} leaveOut={["host", "next_after", "port"]} />
      <Consequence {...props} probe={probe} />
    </>
  );
}

/** What a probe's four numbers mean in seconds. */
export function Consequence({ probe, consequences }: Pick<InspectorProps, "consequences"> & { probe: string }) {
  const meaning = consequences.find((one) => one.probe === probe);
  if (!meaning) return null;
  const silentWhy = sumOfBounds(meaning.silent);
  return (
    <div className="mt-2 rounded bg-foot px-3 py-2" data-testid="consequence">
      <p className="text-[12px] text-ink-soft">A silent target is noticed after</p>
      <p className="flex items-baseline justify-between gap-2" title={silentWhy}>
        <b className="text-lg font-semibold">{secondsRange(meaning.silent.earliest_s, meaning.silent.latest_s)}</b>
        <span className="text-[12px] text-ink-soft">{seconds(meaning.silent.mean_s)} on average</span>
      </p>
      <p className="text-[12px] text-ink-soft">
        refused: {secondsRange(meaning.refused.earliest_s, meaning.refused.latest_s)}; back in use after {secondsRange(meaning.returned.earliest_s, meaning.returned.latest_s)}
      </p>
      <p className="mt-1 text-[11px] text-ink-soft">{silentWhy}</p>
    </div>
  );
}
