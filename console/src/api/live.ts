import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";

/** Which cached answers an event makes stale. */
const stale: Record<string, string[]> = {
  order: ["orders", "order", "board", "shipment", "picking"],
  stock: ["stock", "item", "why"],
  feed: ["connections", "connection", "runs", "board"],
  connection: ["connections", "connection", "board"],
  shipment: ["shipments", "shipment", "picking", "order"],
  manifest: ["manifests", "shipments"],
  exception: ["board", "exceptions"],
  listing: ["item", "why"],
};

/** Listens to what changes and refreshes what is shown, at most four times a second. */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    const touched = new Set<string>(["activity"]);
    let timer: ReturnType<typeof setTimeout> | undefined;
    let wasDown = false;
    const flush = () => {
      timer = undefined;
      const keys = [...touched];
      touched.clear();
      for (const key of keys) void client.invalidateQueries({ queryKey: [key] });
    };
    source.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as { kind: string };
      for (const key of stale[event.kind] ?? []) touched.add(key);
      touched.add("activity");
      timer ??= setTimeout(flush, 250);
    };
    source.onopen = () => {
      setConnected(true);
      if (wasDown) void client.invalidateQueries();
      wasDown = false;
    };
    source.onerror = () => {
      wasDown = true;
      setConnected(false);
    };
    return () => {
      source.close();
      clearTimeout(timer);
    };
  }, [client]);
  return connected;
}
