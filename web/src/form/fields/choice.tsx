/** Fields in which one of several is chosen, or something is set or not. */

import { written } from "../../kit/format";
import { setting } from "../../plan/edit";
import { canStandAt, namesFor } from "../../plan/names";
import { BOX, useForm, type ValueProps } from "../context";

export function ChoiceField({ id, spoken, info, value, path }: ValueProps) {
  const { field, nullable } = info;
  const words = field.kind === "choice" ? field.words : [];
  const { send, document } = useForm();
  const fitting = words.filter((word) => word === value || canStandAt(document, path, word));
  const options = nullable ? [null, ...fitting] : fitting;
  return (
    <select id={id} aria-label={spoken} className={BOX} value={options.indexOf(value ?? null) < 0 ? options.indexOf(value) : options.indexOf(value ?? null)} onChange={(event) => send([setting(path, options[Number(event.target.value)])])}>
      {options.map((word, index) => (
        <option key={written(word)} value={index}>
          {word === null ? "as by default" : written(word).replaceAll("-", " ")}
        </option>
      ))}
    </select>
  );
}

export function ReferenceField({ id, spoken, info, value, path }: ValueProps) {
  const { field, nullable } = info;
  const to = field.kind === "reference" ? field.to : "";
  const { send, document } = useForm();
  const names = namesFor(document, to);
  const dangling = typeof value === "string" && value !== "" && !names.includes(value);
  return (
    <select id={id} aria-label={spoken} className={`${BOX} ${dangling ? "border-vermilion text-vermilion-text" : ""}`} value={typeof value === "string" ? value : ""} onChange={(event) => send([setting(path, event.target.value || null)])}>
      {(nullable || !value) && <option value="">none</option>}
      {dangling && <option value={value}>{value} (not in the plan)</option>}
      {names.map((name) => (
        <option key={name} value={name}>
          {name}
        </option>
      ))}
    </select>
  );
}

/** A field that is set or not. */
export function YesNoField({ id, value, path }: ValueProps) {
  const { send } = useForm();
  return <input id={id} type="checkbox" className="size-6 justify-self-end accent-north" checked={value === true} onChange={(event) => send([setting(path, event.target.checked)])} />;
}
