import { useEffect, useState } from "react";

const exponent: Record<string, number> = { JPY: 0, KRW: 0, ISK: 0, BHD: 3, KWD: 3, TND: 3 };

export function decimal(minor: number, currency: string): string {
  const digits = exponent[currency] ?? 2;
  return (minor / 10 ** digits).toLocaleString("en-GB", { minimumFractionDigits: digits, maximumFractionDigits: digits });
}

/** What a person types in a field for an amount, and back; NaN for what is none. */
export const typedAmount = (minor: number, currency: string) => (minor / 10 ** (exponent[currency] ?? 2)).toFixed(exponent[currency] ?? 2);

export const minorOf = (typed: string, currency: string) =>
  Math.round(Number(typed.trim().replace(",", ".") || 0) * 10 ** (exponent[currency] ?? 2));

export function Money({ minor, currency }: { minor: number; currency: string }) {
  return (
    <span className="fig whitespace-nowrap">
      {decimal(minor, currency)}
      <span className="unit">{currency}</span>
    </span>
  );
}

export const count = (n: number) => n.toLocaleString("en-GB");

export const signed = (n: number) => (n > 0 ? `+${count(n)}` : n < 0 ? `−${count(-n)}` : "0");

/** How moments are written, in a time zone; without one, in the browser's. */
function written(timeZone?: string) {
  const form = (o: Intl.DateTimeFormatOptions) => new Intl.DateTimeFormat("en-GB", { ...o, timeZone });
  return {
    clock: form({ hour: "2-digit", minute: "2-digit", second: "2-digit" }),
    day: form({ weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" }),
    full: form({ dateStyle: "full", timeStyle: "long" }),
    date: form({ weekday: "short", day: "numeric", month: "short", year: "numeric" }),
  };
}

let forms = written();

/** Moments are written on the company's clocks from now on. A zone that the browser does not know leaves its own. */
export function setZone(timeZone: string) {
  try {
    forms = written(timeZone || "UTC");
  } catch {
    forms = written();
  }
}

const date = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short", timeZone: "UTC" });

/** A day, which is the same everywhere. */
export const dayText = (iso: string) => date.format(new Date(iso.slice(0, 10)));

/** How long ago, in the shortest words. */
export function age(iso: string, now: number): string {
  const s = Math.round((now - Date.parse(iso)) / 1000);
  if (s < -1) return "in " + span(-s);
  if (s < 3) return "now";
  return span(s) + " ago";
}

function span(s: number): string {
  if (s < 60) return `${s} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h`;
  return `${Math.floor(s / 86400)} d`;
}

/** The present, moving on every few seconds. */
export function useNow(every = 5000): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}

export function Age({ at, never = "never" }: { at?: string | null; never?: string }) {
  const now = useNow();
  if (!at) return <span className="text-quiet">{never}</span>;
  return (
    <time dateTime={at} title={forms.full.format(new Date(at))} className="whitespace-nowrap">
      {age(at, now)}
    </time>
  );
}

/** A moment: the clock today, the day otherwise, and its age. */
export function When({ at }: { at?: string | null }) {
  const now = useNow();
  if (!at) return null;
  const d = new Date(at);
  const today = forms.date.format(now) === forms.date.format(d);
  return (
    <time dateTime={at} title={forms.full.format(d)} className="whitespace-nowrap">
      <span className="code">{today ? forms.clock.format(d) : forms.day.format(d)}</span>{" "}
      <span className="text-quiet text-[12px]">{age(at, now)}</span>
    </time>
  );
}

export function Kg({ grams }: { grams: number }) {
  return (
    <span className="fig whitespace-nowrap">
      {(grams / 1000).toFixed(2)}
      <span className="unit">kg</span>
    </span>
  );
}
