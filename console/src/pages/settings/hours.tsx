import type { Schema } from "../../api/client";
import { Labelled } from "../../parts/fields";

export type Hours = Schema<"PlaceHours">;
type DayOff = NonNullable<Hours["days_off"]>[number];

const days = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

const usual: Hours = { week: [...Array<string>(5).fill("08:00-17:00"), "", ""], cutoff: "14:00" };

/** Days off as they are typed: one a line, a day or two, and why. */
export function daysOffText(list: DayOff[] | null | undefined): string {
  return (list ?? []).map((d) => [d.from, d.to === d.from ? "" : d.to, d.why].filter(Boolean).join(" ")).join("\n");
}

/** What was typed, as days off; what cannot be read is left for the service to refuse. */
export function daysOffOf(text: string): DayOff[] {
  const day = /^\d{4}-\d{2}-\d{2}$/;
  return text
    .split("\n")
    .map((line) => line.trim().split(/\s+/))
    .filter(([first]) => first)
    .map(([from = "", second = "", ...rest]) =>
      day.test(second) ? { from, to: second, why: rest.join(" ") } : { from, why: [second, ...rest].join(" ").trim() },
    );
}

/** When a place is at work: the week, until when what comes leaves the same day, and days off. */
export function HoursFields({
  value,
  off,
  onChange,
  onOff,
  always = false,
}: {
  value: Hours | undefined;
  off: string;
  onChange: (h: Hours | undefined) => void;
  onOff: (text: string) => void;
  always?: boolean; // it has hours in any case: those of a carrier
}) {
  const set = (day: number, end: 0 | 1, time: string) => {
    const week = [...(value?.week ?? [])];
    const ends = (week[day] || "-").split("-");
    ends[end] = time;
    week[day] = ends.join("") === "" ? "" : ends.join("-");
    onChange({ ...value, week });
  };
  return (
    <fieldset className="col-span-2 border-t border-rule pt-3">
      <legend className="sr-only">When it is at work</legend>
      {!always && (
        <label className="flex items-center gap-2 font-medium">
          <input type="checkbox" checked={!!value} onChange={(e) => onChange(e.target.checked ? usual : undefined)} />
          It has hours; orders are late when they should have left by them
        </label>
      )}
      {value && (
        <div className="mt-2 grid grid-cols-2 gap-3">
          <ul>
            {days.map((day, i) => {
              const [from = "", to = ""] = (value.week?.[i] ?? "").split("-");
              return (
                <li key={day} className="flex items-center gap-2 py-0.5">
                  <span className="w-24 text-quiet">{day}</span>
                  <input
                    type="time"
                    className="field fig"
                    aria-label={`${day}, opens`}
                    value={from}
                    onChange={(e) => set(i, 0, e.target.value)}
                  />
                  <input
                    type="time"
                    className="field fig"
                    aria-label={`${day}, closes`}
                    value={to}
                    onChange={(e) => set(i, 1, e.target.value)}
                  />
                </li>
              );
            })}
          </ul>
          <div className="flex flex-col gap-3">
            <Labelled label="Cut-off" help="What comes by then leaves the same day; empty: until it closes">
              <input
                type="time"
                className="field fig"
                value={value.cutoff ?? ""}
                onChange={(e) => onChange({ ...value, cutoff: e.target.value || undefined })}
              />
            </Labelled>
            <Labelled label="Days off, one a line" help="Such as 2026-12-24 2026-12-26 Midwinter">
              <textarea className="field code h-24 w-full" value={off} onChange={(e) => onOff(e.target.value)} />
            </Labelled>
          </div>
        </div>
      )}
    </fieldset>
  );
}
