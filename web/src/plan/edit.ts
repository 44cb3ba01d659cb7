import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { toast } from "sonner";

import { api, dataOf, ProblemError, type PlanWhole, type Schemas } from "../api/client";

export type Operation = Schemas["PatchOperation"];
type EditAnswer = Schemas["EditAnswer"];
type Move = "undo" | "redo" | "agree";

/** One operation that sets a value, whether it was there or not. */
export function setting(path: string, value: unknown): Operation {
  return { op: "replace", path, value };
}

export function adding(path: string, value: unknown): Operation {
  return { op: "add", path, value };
}

export function removing(path: string): Operation {
  return { op: "remove", path };
}

/** Escapes a part of a JSON Pointer (RFC 6901). */
export function pointerPart(part: string | number): string {
  return String(part).replaceAll("~", "~0").replaceAll("/", "~1");
}

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
      await client.cancelQueries({ queryKey: ["plan", key], exact: true });
      client.setQueryData(["plan", key], { head: whole.head, document: whole.document });
      void client.invalidateQueries({ queryKey: ["plans"] });
    },
    [client, key],
  );
  const revision = useCallback(() => client.getQueryData<PlanWhole>(["plan", key])?.head.revision ?? 0, [client, key]);

  // One after the other: an edit is made of what the one before has made, never beside it.
  const scope = { id: `edits of ${key}` };

  const move = useMutation({
    scope,
    mutationFn: async (which: Move) => {
      const params = { path: { key }, header: { "if-match": `"${revision()}"` } };
      if (which === "agree") return dataOf(await api.POST("/api/plans/{key}/agree", { params }));
      const path = which === "undo" ? "/api/plans/{key}/undo" : "/api/plans/{key}/redo";
      return dataOf(await api.POST(path, { params }));
    },
    onSuccess: async (whole, which) => {
      await shown(whole);
      if (which === "agree") toast.success(`Revision ${whole.head.revision} is agreed`);
      else toast(`${which === "undo" ? "Undone" : "Done again"}. ${changeWords((whole as EditAnswer).changes)}`);
    },
    onError: (error: Error) => toast.error(error.message),
  });

  const edit = useMutation({
    scope,
    mutationFn: async (patch: Operation[]) => {
      performance.mark("edit-sent");
      const params = { path: { key }, header: { "if-match": `"${revision()}"` } };
      const answer = await api.PATCH("/api/plans/{key}", { params, body: patch });
      if (answer.response.status === 412) await takeNewer(patch);
      return dataOf(answer);
    },
    onSuccess: async (whole) => {
      await shown(whole);
      toast(changeWords(whole.changes), { action: { label: "Undo", onClick: () => move.mutate("undo") } });
    },
  });

  /** Somebody else was first: shows their plan and offers the edit again, on top of it. */
  async function takeNewer(patch: Operation[]): Promise<void> {
    await client.refetchQueries({ queryKey: ["plan", key], exact: true });
    toast.warning("The plan has changed in another window. Here is the newer one; your edit is not lost.", {
      duration: Infinity,
      action: { label: "Apply mine to it", onClick: () => edit.mutate(patch) },
    });
  }

  return { edit, move };
}

/** What is wrong with an edit, for the field at `path`: the problem of that place, else the first. */
export function problemAt(error: Error | null, path: string): string | undefined {
  if (!(error instanceof ProblemError)) return error?.message;
  const near = error.problems.find((one) => one.where === path || one.where.startsWith(`${path}/`));
  return (near ?? error.problems[0])?.message ?? error.message;
}
