import { Skeleton } from "../../kit/parts";

/** While a plan is read: the shapes of what will be there; `called` is what those hear who see none. */
export function Reading({ called }: { called: string }) {
  return (
    <div className="flex min-h-0 flex-1" role="status" aria-label={called}>
      <div className="flex-1 p-4">
        <Skeleton className="h-full" />
      </div>
      <div className="w-[316px] border-l border-line-strong p-4 max-md:hidden">
        <Skeleton />
      </div>
    </div>
  );
}
