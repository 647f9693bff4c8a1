import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Which cached answers an event makes stale. */
const stale: Record<string, string[]> = {
  order: ["orders", "order", "board", "shipment", "parcel", "picking", "tags", "round"],
  stock: ["stock", "item", "why", "compare", "listings"],
  feed: ["connections", "connection", "runs", "board"],
  connection: ["connections", "connection", "board", "join", "connectors"],
  run: ["runs", "run"],
  file: ["files"],
  import: ["import"],
  round: ["rounds", "round", "round rules", "picking"],
  return: ["returns", "return", "order", "stock"],
  shipment: ["shipments", "shipment", "parcels", "parcel", "picking", "order", "companions"],
  manifest: ["manifests", "parcels"],
  request: ["requests", "request", "order requests", "partners"],
  partner: ["partners", "partner items", "stock differences"],
  exception: ["board", "exceptions", "exceptions of", "causes"],
  rule: ["rules"],
  target: ["targets"],
  listing: ["item", "why", "listings", "compare"],
  item: ["items", "item", "listings"],
  purchase: ["purchases", "purchase"],
  transfer: ["transfers", "transfer"],
  count: ["counts", "count"],
  sheet: ["sheets", "sheet"],
  job: ["jobs", "action"],
  company: ["company"],
  setting: ["setting-changes"],
  backup: ["backups"],
  profile: ["kept profiles", "profiles"],
  series: ["series"],
};

type Said = { kind: string } | { connected: boolean };

/**
 * Hears what the service says. A browser keeps only a few connections to one host, so among all open
 * tabs one holds the line and tells the others; when it closes, the next takes over.
 */
function hear(say: (said: Said) => void): () => void {
  const others = new BroadcastChannel("openrelay live");
  others.onmessage = (m) => say(m.data as Said);
  const tell = (said: Said) => {
    say(said);
    others.postMessage(said);
  };
  let source: EventSource | undefined;
  let release: (() => void) | undefined;
  const hold = () =>
    new Promise<void>((done) => {
      release = done;
      source = new EventSource("/api/v1/events");
      source.onmessage = (m) => tell(JSON.parse(m.data as string) as Said);
      source.onopen = () => tell({ connected: true });
      source.onerror = () => tell({ connected: false });
    });
  const leaving = new AbortController();
  // Without locks (plain HTTP from another machine) every tab holds a line of its own.
  if (navigator.locks) navigator.locks.request("openrelay live", { signal: leaving.signal }, hold).catch(() => undefined);
  else void hold();
  const end = () => {
    leaving.abort();
    source?.close();
    release?.();
    others.close();
  };
  window.addEventListener("pagehide", end, { once: true });
  return () => {
    window.removeEventListener("pagehide", end);
    end();
  };
}

/** Listens to what changes and refreshes what is shown, at most four times a second. */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const touched = new Set<string>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    let wasDown = false;
    const flush = () => {
      timer = undefined;
      const keys = [...touched, "activity"];
      touched.clear();
      for (const key of keys) void client.invalidateQueries({ queryKey: [key] });
    };
    const stop = hear((said) => {
      if ("connected" in said) {
        setConnected(said.connected);
        if (said.connected && wasDown) void client.invalidateQueries();
        wasDown = !said.connected;
        return;
      }
      if (said.kind === "everything") void client.invalidateQueries();
      for (const key of stale[said.kind] ?? []) touched.add(key);
      timer ??= setTimeout(flush, 250);
    });
    // A page that comes back from the browser's memory begins anew.
    const shown = (e: PageTransitionEvent) => e.persisted && location.reload();
    window.addEventListener("pageshow", shown);
    return () => {
      stop();
      window.removeEventListener("pageshow", shown);
      clearTimeout(timer);
    };
  }, [client]);
  return connected;
}
