import { clsx } from "clsx";
import { Switch as RadixSwitch } from "radix-ui";
import type { ReactNode } from "react";

/** A field with its name above and its help below. */
export function Labelled({
  label,
  help,
  wrong,
  children,
  wide,
}: {
  label: string;
  help?: ReactNode;
  wrong?: boolean;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <label className={`block ${wide ? "sm:col-span-2" : ""}`}>
      <span className={`mb-1 block text-[12px] ${wrong ? "font-medium text-stop" : "text-quiet"}`}>
        {label}
        {wrong && " — this is the one that is wrong"}
      </span>
      {children}
      {help && <span className="mt-1 block max-w-prose text-[12px] text-quiet">{help}</span>}
    </label>
  );
}

export function Switch({
  label,
  on,
  onChange,
  disabled,
}: {
  label: string;
  on: boolean;
  onChange: (to: boolean) => void;
  disabled?: boolean;
}) {
  return (
    <RadixSwitch.Root
      aria-label={label}
      checked={on}
      disabled={disabled}
      onCheckedChange={onChange}
      className={clsx(
        "relative block h-[18px] w-8 shrink-0 rounded-full border border-rule bg-paper disabled:opacity-60",
        "data-[state=checked]:border-ink data-[state=checked]:bg-ink",
      )}
    >
      <RadixSwitch.Thumb
        className={clsx(
          "block h-3 w-3 translate-x-[2px] rounded-full bg-quiet transition-transform duration-100",
          "data-[state=checked]:translate-x-[16px] data-[state=checked]:bg-paper",
        )}
      />
    </RadixSwitch.Root>
  );
}
