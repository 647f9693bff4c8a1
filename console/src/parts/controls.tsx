import { clsx } from "clsx";
import { Dialog } from "radix-ui";
import { useEffect, useRef, type ButtonHTMLAttributes, type ReactNode } from "react";
import { Problem } from "../api/client";
import { LampShape } from "./lamp";

type Kind = "main" | "plain" | "quiet";

const look: Record<Kind, string> = {
  main: "bg-ink text-paper border-ink",
  plain: "bg-sheet text-ink border-rule hover:border-ink",
  quiet: "bg-transparent text-ink border-transparent underline decoration-rule underline-offset-4 hover:decoration-ink px-0!",
};

export function Button({
  kind = "plain",
  large,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind; large?: boolean }) {
  const size = large ? "min-h-12 px-5 text-[18px]" : "px-3 py-1";
  return (
    <button
      type="button"
      {...rest}
      className={clsx(
        "inline-flex items-center justify-center gap-2 rounded-[3px] border disabled:opacity-45",
        look[kind],
        size,
        className,
      )}
    />
  );
}

/** Loads the next part of a list that comes in parts; nothing where all of it is there. */
export function ShowMore({ of: q }: { of: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => Promise<unknown> } }) {
  if (!q.hasNextPage) return null;
  return (
    <p className="py-3">
      <Button onClick={() => void q.fetchNextPage()} disabled={q.isFetchingNextPage}>
        {q.isFetchingNextPage ? "Loading …" : "Show more"}
      </Button>
    </p>
  );
}

/** Says what happened, what it means and what was expected. */
export function Trouble({ error, large }: { error: unknown; large?: boolean }) {
  if (!error) return null;
  const p = error instanceof Problem ? error : new Problem(0, String(error));
  return (
    <div
      role="alert"
      className={`flex items-start gap-2 border-l-4 border-stop bg-sheet px-3 py-2 ${large ? "text-[18px] leading-6" : ""}`}
    >
      <span className="pt-0.5">
        <LampShape state="stop" size={large ? 16 : 11} />
      </span>
      <span>{p.detail}</span>
    </div>
  );
}

export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div data-empty className="border-t border-rule py-10 text-quiet">
      <p className="max-w-prose">{children}</p>
      {action && <div className="mt-3">{action}</div>}
    </div>
  );
}

/** Says of a list that ends at its limit that it does: nothing is left out in silence. */
export function Cut({ shown, limit, children }: { shown: number; limit: number; children: ReactNode }) {
  if (shown < limit) return null;
  return (
    <p role="note" className="py-2 text-quiet">
      {limit} are shown. {children}
    </p>
  );
}

export function Loading() {
  return (
    <p role="status" className="py-6 text-quiet">
      Loading …
    </p>
  );
}

/** A sheet that lies over the page. */
export function Sheet({
  open,
  onClose,
  title,
  children,
  wide,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-[#101613]/45" />
        <Dialog.Content
          aria-describedby={undefined}
          className={clsx(
            "fixed top-[8vh] left-1/2 z-50 max-h-[84vh] -translate-x-1/2 overflow-auto rounded-[3px] border border-rule bg-sheet p-5",
            "shadow-[0_12px_40px_rgb(0_0_0/0.28)]",
            wide ? "w-[min(860px,94vw)]" : "w-[min(560px,94vw)]",
          )}
        >
          <div className="mb-3 flex items-baseline justify-between gap-4">
            <Dialog.Title className="text-[16px] font-semibold">{title}</Dialog.Title>
            <Dialog.Close asChild>
              <Button kind="quiet">Close</Button>
            </Dialog.Close>
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** A page's head: what it is, and what can be done here. */
/** Names the browser's tab. */
export function Tab({ name }: { name: string }) {
  useEffect(() => {
    document.title = `${name} · Open Relay`;
  }, [name]);
  return null;
}

/** The head of a page; the browser's tab is called like it, or `tab` where two pages would be called the same. */
export function Head({ title, tab, sub, children }: { title: ReactNode; tab?: string; sub?: ReactNode; children?: ReactNode }) {
  const head = useRef<HTMLHeadingElement>(null);
  useEffect(() => {
    document.title = `${tab ?? head.current?.textContent ?? ""} · Open Relay`;
  });
  return (
    <header className="mb-4 flex flex-wrap items-end justify-between gap-x-6 gap-y-2">
      <div className="min-w-0">
        <h1 ref={head}>{title}</h1>
        {sub && <div className="text-quiet">{sub}</div>}
      </div>
      <div className="flex flex-wrap items-center gap-2">{children}</div>
    </header>
  );
}
