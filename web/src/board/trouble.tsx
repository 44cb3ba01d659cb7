import { ProblemError } from "../api/client";

/** What stands in the way, with the place of each problem in the plan. */
export function Trouble({ error }: { error: Error }) {
  const problems = error instanceof ProblemError ? error.problems : [];
  return (
    <section className="m-8 max-w-3xl rounded border border-vermilion bg-vermilion-fill p-5" role="alert">
      <h1 className="text-lg font-semibold">{error instanceof ProblemError ? error.title : "Something went wrong"}</h1>
      {problems.length === 0 && <p className="mt-1">{error.message}</p>}
      <ul className="mt-2 space-y-1">
        {problems.map((problem) => (
          <li key={problem.where + problem.message}>
            <code className="font-mono text-[12px] text-ink-soft">{problem.where}</code> {problem.message}
          </li>
        ))}
      </ul>
    </section>
  );
}
