/** A lamp is a small shape with a word beside it: state is never shown by colour alone. */
export type LampState = "go" | "idle" | "caution" | "stop" | "busy";

const colour: Record<LampState, string> = {
  go: "text-go",
  idle: "text-quiet",
  caution: "text-caution",
  stop: "text-stop",
  busy: "text-busy",
};

export function LampShape({ state, size = 11 }: { state: LampState; size?: number }) {
  const shape = {
    go: <circle cx="6" cy="6" r="5" fill="currentColor" />,
    idle: <circle cx="6" cy="6" r="4.1" fill="none" stroke="currentColor" strokeWidth="1.6" />,
    caution: <path d="M6 0.8 11.6 11H0.4Z" fill="currentColor" />,
    stop: <rect x="1" y="1" width="10" height="10" fill="currentColor" />,
    busy: (
      <>
        <circle cx="6" cy="6" r="4.3" fill="none" stroke="currentColor" strokeWidth="1.4" />
        <path d="M6 1.2a4.8 4.8 0 0 0 0 9.6Z" fill="currentColor" />
      </>
    ),
  }[state];
  return (
    <svg viewBox="0 0 12 12" width={size} height={size} aria-hidden="true" className={`inline-block shrink-0 ${colour[state]}`}>
      {shape}
    </svg>
  );
}

export function Lamp({ state, children }: { state: LampState; children: React.ReactNode }) {
  return (
    <span className="inline-flex items-center gap-1.5 whitespace-nowrap">
      <LampShape state={state} />
      <span>{children}</span>
    </span>
  );
}

const stages: Record<string, LampState> = {
  pending: "idle",
  held: "caution",
  ready: "go",
  routed: "busy",
  picking: "busy",
  packed: "busy",
  "part shipped": "busy",
  shipped: "go",
  delivered: "go",
  cancelled: "stop",
  void: "stop",
};

/** The lamp of a stage that orders are still to leave. */
export const lampOf = (stage: string): LampState => stages[stage] ?? "idle";

export function Stage({ stage }: { stage: string }) {
  const done = stage === "shipped" || stage === "delivered";
  return (
    <span className={done ? "text-quiet" : ""}>
      <Lamp state={done ? "idle" : lampOf(stage)}>{stage}</Lamp>
    </span>
  );
}

const messages: Record<string, LampState> = {
  waiting: "busy",
  sending: "busy",
  sent: "busy",
  confirmed: "go",
  refused: "stop",
  superseded: "idle",
};

export function MessageState({ state }: { state: string }) {
  return <Lamp state={messages[state] ?? "idle"}>{state}</Lamp>;
}
