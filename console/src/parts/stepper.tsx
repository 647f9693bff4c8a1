import { Button } from "./controls";

/** So many of something, one more or one less at a press: large enough for gloves where it is used standing. */
export function Stepper({
  of,
  value,
  least = 0,
  most,
  large,
  onChange,
}: {
  of: string; // what is counted, such as an SKU
  value: number;
  least?: number;
  most: number;
  large?: boolean;
  onChange: (n: number) => void;
}) {
  return (
    <span className="flex items-center gap-3" role="group" aria-label={`Units of ${of}`}>
      <Button large={large} aria-label={`One less of ${of}`} disabled={value <= least} onClick={() => onChange(value - 1)}>
        −
      </Button>
      <span className={`fig w-16 text-center ${large ? "text-[20px]" : ""}`} data-testid={`units of ${of}`}>
        {value}
        <span className="text-quiet">/{most}</span>
      </span>
      <Button large={large} aria-label={`One more of ${of}`} disabled={value >= most} onClick={() => onChange(value + 1)}>
        +
      </Button>
    </span>
  );
}
