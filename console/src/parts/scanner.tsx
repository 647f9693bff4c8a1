import { useRef, useState, type FormEvent, type ReactNode } from "react";
import { CameraButton } from "./camera";
import { Button } from "./controls";
import { LampShape } from "./lamp";

export type Said = { good: boolean; text: string; expected?: string };

/** A short low tone for a refused scan, a short high one for a good one. */
export function sound(good: boolean) {
  if (!good) navigator.vibrate?.(250);
  const Context = window.AudioContext;
  if (!Context) return;
  const ctx = new Context();
  const tone = ctx.createOscillator();
  const gain = ctx.createGain();
  tone.frequency.value = good ? 880 : 150;
  tone.type = good ? "sine" : "square";
  gain.gain.value = good ? 0.04 : 0.2;
  tone.connect(gain).connect(ctx.destination);
  tone.start();
  tone.stop(ctx.currentTime + (good ? 0.07 : 0.35));
  tone.onended = () => void ctx.close();
}

/** The field that a scanner types into, large enough for gloves. It takes the focus back after each scan. */
export function ScanField({
  placeholder,
  busy,
  onScan,
  children,
}: {
  placeholder: string;
  busy?: boolean;
  onScan: (code: string) => void;
  children?: ReactNode;
}) {
  const field = useRef<HTMLInputElement>(null);
  const [code, setCode] = useState("");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const text = code.trim();
    setCode("");
    field.current?.focus();
    if (text) onScan(text);
  };
  return (
    <form onSubmit={submit} className="mb-3 flex flex-wrap gap-2">
      <input
        ref={field}
        className="field min-h-14 min-w-0 flex-1 font-mono text-[22px]"
        placeholder={placeholder}
        aria-label="Scan"
        autoFocus
        autoComplete="off"
        autoCapitalize="off"
        enterKeyHint="send"
        value={code}
        onChange={(e) => setCode(e.target.value)}
      />
      {children}
      <Button large type="submit" disabled={busy}>
        Enter
      </Button>
      <CameraButton onScan={onScan} />
    </form>
  );
}

/** What became of the last scan, readable from a metre away. */
export function Verdict({ said }: { said: Said | null }) {
  return (
    <div aria-live="assertive" className="mb-4">
      {said && (
        <div
          data-testid={said.good ? "said-good" : "said-wrong"}
          className={`flex items-start gap-3 px-4 py-3 ${said.good ? "border-l-8 border-go bg-sheet" : "bg-stop text-paper"}`}
        >
          <span className="pt-0.5">{said.good ? <LampShape state="go" size={18} /> : <span aria-hidden="true">■</span>}</span>
          <div>
            <div className="font-semibold">{said.good ? said.text : `Wrong: ${said.text}`}</div>
            {said.expected && <div className="text-[16px]">{said.good ? `Next: ${said.expected}` : `Expected: ${said.expected}`}</div>}
          </div>
        </div>
      )}
    </div>
  );
}
