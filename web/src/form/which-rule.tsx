/** The request of which one asks which rule takes it: method, URL or path, headers. */

import { BOX } from "./context";

export interface Request {
  url: string;
  method: string;
  /** Headers, one a line: `name: value`. */
  headers: string;
}

const METHODS = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];

interface WhichRuleProps {
  request: Request;
  onChange: (request: Request) => void;
  problem: string | undefined;
  because: string | null | undefined;
}

export function WhichRule({ request, onChange, problem, because }: WhichRuleProps) {
  return (
    <fieldset className="mb-2 text-[12px] text-ink-soft">
      <legend className="mb-0.5">Which rule takes this request?</legend>
      <span className="grid grid-cols-[84px_1fr] gap-1">
        <select aria-label="Method" className={BOX} value={request.method} onChange={(event) => onChange({ ...request, method: event.target.value })}>
          {METHODS.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </select>
        <input
          aria-label="URL or path"
          className={`${BOX} font-mono`}
          placeholder="/alerts/near"
          value={request.url}
          spellCheck={false}
          autoComplete="off"
          aria-invalid={problem !== undefined}
          onChange={(event) => onChange({ ...request, url: event.target.value })}
        />
      </span>
      <textarea
        aria-label="Headers, one a line"
        className={`${BOX} mt-1 block resize-y font-mono`}
        rows={1}
        placeholder="x-canary: 1"
        value={request.headers}
        spellCheck={false}
        onChange={(event) => onChange({ ...request, headers: event.target.value })}
      />
      {request.url && problem && <p role="alert" className="mt-0.5 text-vermilion-text">{problem}</p>}
      {request.url && !problem && because && <p className="mt-0.5 text-ink">{because}</p>}
    </fieldset>
  );
}
