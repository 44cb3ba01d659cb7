import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";

import { notify } from "../kit/notify";
import { api, dataOf, ProblemError, type PlanWhole, type Schemas } from "../api/client";
import { askStateAhead } from "./queries";
import type { Operation } from "./operations";

export { adding, pointerPart, removing, setting, type Operation } from "./operations";
type Move = "undo" | "redo";

/** What an edit changed, in a line for a toast. */
export function changeWords(changes: Schemas["ChangeAnswer"][]): string {
  const [first, ...rest] = changes;
  if (!first) return "Nothing changed";
  return `${first.about}: ${first.words}${rest.length ? ` and ${rest.length} more` : ""}`;
}

/** Edits of a plan: each is sent at once, made of the revision that is shown, and can be undone. */
export function useEdit(key: string) {
  const client = useQueryClient();

  const shown = useCallback(
    async (whole: PlanWhole) => {
      // An answer that is still on its way may be of before this edit: it must not take the newer one's place.
      askStateAhead(client, { key, revision: whole.head.revision });
      await client.cancelQueries({ queryKey: ["plan", key], exact: true });
      client.setQueryData(["plan", key], { head: whole.head, document: whole.document });
      void client.invalidateQueries({ queryKey: ["plans"] });
    },
    [client, key],
  );
  const revision = useCallback(() => client.getQueryData<PlanWhole>(["plan", key])?.head.revision ?? 0, [client, key]);

  // One after the other: an edit is made of what the one before has made, never beside it.
  const scope = { id: `edits of ${key}` };

  // Each edit's message takes the place of the one before.
  const told = `edit of ${key}`;

  const move = useMutation({
    scope,
    mutationFn: async (which: Move) => {
      const params = { path: { key }, header: { "if-match": `"${revision()}"` } };
      const path = which === "undo" ? "/api/plans/{key}/undo" : "/api/plans/{key}/redo";
      return dataOf(await api.POST(path, { params }));
    },
    onSuccess: async (whole, which) => {
      await shown(whole);
      notify(`${which === "undo" ? "Undone" : "Done again"}. ${changeWords(whole.changes)}`, { id: told });
    },
    onError: (error: Error) => notify(error.message, { tone: "error" }),
  });

  // An edit of an earlier revision, made of the current one; or one taken back on which others have been built.
  const late = useMutation({
    scope,
    mutationFn: async (asked: { otherwise: string; revert: number } | { otherwise: string; made_of: number; patch: Operation[] }) => {
      const params = { path: { key }, header: { "if-match": `"${revision()}"` } };
      if ("patch" in asked) return dataOf(await api.POST("/api/plans/{key}/again", { params, body: { made_of: asked.made_of, patch: asked.patch } }));
      return dataOf(await api.POST("/api/plans/{key}/revert", { params: { ...params, query: { revision: asked.revert } } }));
    },
    onSuccess: async (whole) => {
      await shown(whole);
      notify(changeWords(whole.changes), { id: told, action: { label: "Undo", onClick: () => void undo(whole.head.revision) } });
    },
    onError: (error: Error, { otherwise }) => notify(`${otherwise}: ${error.message}`, { tone: "error" }),
  });

  const edit = useMutation({
    scope,
    mutationFn: async (patch: Operation[]) => {
      performance.mark("edit-sent");
      const madeOf = revision();
      const params = { path: { key }, header: { "if-match": `"${madeOf}"` } };
      const answer = await api.PATCH("/api/plans/{key}", { params, body: patch });
      if (answer.response.status === 412) await takeNewer(patch, madeOf);
      return dataOf(answer);
    },
    onSuccess: async (whole) => {
      await shown(whole);
      notify(changeWords(whole.changes), { id: told, action: { label: "Undo", onClick: () => void undo(whole.head.revision) } });
    },
  });

  /** Somebody else was first: shows their plan and offers the edit again, on top of it. */
  async function takeNewer(patch: Operation[], madeOf: number): Promise<void> {
    await client.refetchQueries({ queryKey: ["plan", key], exact: true });
    notify("The plan has changed in another window. Here is the newer one; your edit is not lost.", {
      tone: "warning",
      duration: Infinity,
      action: { label: "Apply mine to it", onClick: () => late.mutate({ otherwise: "Your edit cannot be applied", made_of: madeOf, patch }) },
    });
  }

  /** Undoes the edit that made a revision; later ones stay, those of other windows too. */
  async function undo(made: number): Promise<void> {
    await client.refetchQueries({ queryKey: ["plan", key], exact: true });
    if (revision() === made) move.mutate("undo");
    else late.mutate({ otherwise: "Not undone", revert: made });
  }

  return { edit, move };
}

/** What is wrong with an edit, for the field at `path`: the problem of that place, else the first. */
export function problemAt(error: Error | null, path: string): string | undefined {
  if (!(error instanceof ProblemError)) return error?.message;
  const near = error.problems.find((one) => one.where === path || one.where.startsWith(`${path}/`));
  return (near ?? error.problems[0])?.message ?? error.message;
}

/** A second plan that begins as this one is. */
export function useCopyPlan() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (key: string) => dataOf(await api.POST("/api/plans/{key}/copy", { params: { path: { key } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["plans"] }),
    onError: (error: Error) => notify(error.message, { tone: "error" }),
  });
}
