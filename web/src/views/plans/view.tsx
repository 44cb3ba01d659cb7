import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Copy, Download, FileUp, Plus, Trash2, Upload } from "lucide-react";
import { useState, type DragEvent } from "react";

import { api, dataOf, fileBody, ProblemError, type PlanHead, type Schemas } from "../../api/client";
import { notify } from "../../kit/notify";
import { Trouble } from "../../plan/trouble";
import { counted } from "../../kit/format";
import { Button, IconButton } from "../../kit/parts";
import { setting, useCopyPlan } from "../../plan/edit";
import { usePlans } from "../../plan/queries";
import { Link, useNavigate } from "../../plan/route";

/** Actions on the list of plans; each shows the list anew when it is done. */
function usePlanActions() {
  const client = useQueryClient();
  const onSuccess = () => client.invalidateQueries({ queryKey: ["plans"] });
  const onError = (error: Error) => notify(problemWords(error), { duration: 10_000, tone: "error" });
  const path = (key: string) => ({ params: { path: { key } } });
  const bringBack = useMutation({ mutationFn: async (key: string) => dataOf(await api.POST("/api/plans/{key}/restore", path(key))), onSuccess, onError });
  const copy = useCopyPlan();
  const remove = useMutation({
    mutationFn: async (plan: PlanHead) => api.DELETE("/api/plans/{key}", path(plan.key)),
    onSuccess: async (_, plan) => {
      await onSuccess();
      notify(`${plan.title} is deleted`, { action: { label: "Undo", onClick: () => bringBack.mutate(plan.key) } });
    },
    onError,
  });
  const rename = useMutation({
    mutationFn: async ({ plan, title }: { plan: PlanHead; title: string }) =>
      dataOf(await api.PATCH("/api/plans/{key}", { params: { path: { key: plan.key }, header: { "if-match": `"${plan.revision}"` } }, body: [setting("/title", title)] })),
    onSuccess: async (whole) => {
      client.setQueryData(["plan", whole.head.key], { head: whole.head, document: whole.document });
      await onSuccess();
    },
    onError,
  });
  const take = useMutation({
    mutationFn: async (text: string) => dataOf(await api.POST("/api/plans", fileBody(text))),
    onSuccess: async (plan) => {
      await onSuccess();
      notify(`${plan.title} is taken in`, { tone: "success" });
    },
    onError,
  });
  const update = useMutation({
    mutationFn: async ({ plan, text }: { plan: PlanHead; text: string }) =>
      dataOf(
        await api.PUT("/api/plans/{key}/file", {
          params: { path: { key: plan.key }, header: { "if-match": `"${plan.revision}"` } },
          ...fileBody(text),
        }),
      ),
    onSuccess: async (whole) => {
      client.setQueryData(["plan", whole.head.key], { head: whole.head, document: whole.document });
      await onSuccess();
    },
    onError,
  });
  return { copy, remove, rename, take, update };
}

function problemWords(error: Error): string {
  const problems = error instanceof ProblemError ? error.problems : [];
  return problems.length ? problems.slice(0, 4).map((one) => `${one.line ? `line ${one.line}: ` : ""}${one.message}`).join("\n") : error.message;
}

/** All plans: open, copy, rename, delete, take in and give out. */
export function PlansView() {
  const plans = usePlans();
  const navigate = useNavigate();
  const { copy, remove, rename, take, update } = usePlanActions();
  const [over, setOver] = useState(false);
  const takeFiles = async (files: FileList | null) => {
    for (const file of files ?? []) take.mutate(await file.text());
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    void takeFiles(event.dataTransfer.files);
  };
  if (plans.error) return <Trouble error={plans.error} />;
  return (
    <main
      id="main"
      className={`flex-1 overflow-y-auto p-8 max-md:p-3 ${over ? "bg-north-fill" : ""}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
    >
      <div className="mx-auto max-w-3xl">
        <header className="flex flex-wrap items-center justify-between gap-2">
          <h1 className="text-2xl font-semibold">Plans</h1>
          <span className="flex gap-2">
            <label className="inline-flex min-h-6 cursor-pointer items-center gap-1.5 rounded border border-line-strong bg-panel px-2 py-0.5 font-medium hover:border-ink">
              <Upload size={13} aria-hidden="true" /> Take in a file
              <input type="file" className="sr-only" accept=".yaml,.yml,.json" multiple onChange={(event) => void takeFiles(event.target.files)} />
            </label>
            <Button className="border-north text-north" onClick={() => navigate({ to: "/start" })}>
              <Plus size={13} aria-hidden="true" /> Start a plan
            </Button>
          </span>
        </header>
        <ul className="mt-4 space-y-2" data-testid="plans">
          {plans.data?.map((plan) => (
            <PlanItem key={plan.key} plan={plan} onCopy={() => copy.mutate(plan.key)} onDelete={() => remove.mutate(plan)} onRename={(title) => rename.mutate({ plan, title })} onUpdate={(text) => update.mutate({ plan, text })} updated={update.data?.head.key === plan.key ? update.data : undefined} />
          ))}
        </ul>
        {plans.data?.length === 0 && <p className="mt-4 text-ink-soft">There is no plan yet. Start one, or drop a plan file here.</p>}
        <p className="mt-6 text-[12px] text-ink-soft">Plan files (YAML or JSON) can be dropped anywhere on this page.</p>
      </div>
    </main>
  );
}

interface PlanItemProps {
  plan: PlanHead;
  onCopy: () => void;
  onDelete: () => void;
  onRename: (title: string) => void;
  onUpdate: (text: string) => void;
  /** What the last update from a file has changed. */
  updated: Schemas["EditAnswer"] | undefined;
}

function PlanItem({ plan, onCopy, onDelete, onRename, onUpdate, updated }: PlanItemProps) {
  const [title, setTitle] = useState<string>();
  const leave = () => {
    if (title !== undefined && title.trim() && title !== plan.title) onRename(title.trim());
    setTitle(undefined);
  };
  return (
    <li className="flex flex-wrap items-center gap-3 rounded border border-line-strong bg-panel px-4 py-2.5">
      <div className="min-w-0 flex-1 basis-56">
        <input
          aria-label={`Title of ${plan.key}`}
          className="w-full rounded border border-transparent bg-transparent text-base font-semibold hover:border-line-strong"
          value={title ?? plan.title}
          onChange={(event) => setTitle(event.target.value)}
          onBlur={leave}
          onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
        />
        <p className="text-[12px] text-ink-soft">
          {plan.key} · {plan.variant ? `a variant: ${plan.variant} · ` : ""}{counted(plan.zones, "zone")} · {counted(plan.instances, "machine")} · {counted(plan.drills, "drill")} · revision {plan.revision}
          {plan.agreed === plan.revision ? ", agreed" : ""}
        </p>
        {plan.unreadable && <p className="text-[12px] text-vermilion-text">It cannot be read: {plan.unreadable}. It can be given out as it is kept, and deleted.</p>}
      </div>
      <Link to="/plans/:key/board" params={{ key: plan.key }} search={{}} className="rounded border border-north px-3 py-0.5 font-medium text-north hover:bg-north-fill">
        Open
      </Link>
      <a className="grid size-6 place-items-center rounded border border-line-strong hover:border-ink" href={`/api/plans/${plan.key}/file`} title="Give out the plan file" aria-label={`Give out ${plan.key}`}>
        <Download size={13} />
      </a>
      <label className="grid size-6 cursor-pointer place-items-center rounded border border-line-strong focus-within:outline-2 focus-within:outline-north hover:border-ink" title="Update it from a file: a new revision, with what that changes">
        <FileUp size={13} aria-hidden="true" />
        <input
          type="file"
          className="sr-only"
          accept=".yaml,.yml,.json"
          aria-label={`Update ${plan.key} from a file`}
          onChange={(event) => {
            void event.target.files?.[0]?.text().then(onUpdate);
            event.target.value = "";
          }}
        />
      </label>
      <IconButton label={`Copy ${plan.key}`} onClick={onCopy}>
        <Copy size={13} />
      </IconButton>
      <IconButton label={`Delete ${plan.key}`} onClick={onDelete}>
        <Trash2 size={13} />
      </IconButton>
      {updated && (
        <div className="basis-full border-t border-line pt-2 text-[12px]" role="status" aria-label={`What has changed in ${plan.key}`}>
          <b className="font-semibold">Revision {updated.head.revision}, from the file:</b>
          <ul className="max-h-40 overflow-y-auto">
            {updated.changes.map((one) => (
              <li key={one.about + one.words}>
                {one.about}: {one.words}
              </li>
            ))}
            {updated.changes.length === 0 && <li>nothing but its text</li>}
          </ul>
        </div>
      )}
    </li>
  );
}
