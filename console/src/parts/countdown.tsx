import { useEffect, useState } from "react";

/** How much time is left, counted down each second. */
export function Countdown({ to, className = "" }: { to: string; className?: string }) {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const t = setInterval(() => setNow(Date.now()), 1000);
    return () => clearInterval(t);
  }, []);
  const left = Math.max(0, Math.ceil((Date.parse(to) - now) / 1000));
  const text =
    left >= 3600
      ? `${Math.floor(left / 3600)} h ${Math.floor((left % 3600) / 60)} min`
      : left >= 60
        ? `${Math.floor(left / 60)}:${String(left % 60).padStart(2, "0")}`
        : `${left} s`;
  return (
    <span role="timer" className={`code whitespace-nowrap ${left < 60 ? "text-stop" : "text-caution"} ${className}`}>
      {left > 0 ? text : "too late"}
    </span>
  );
}
