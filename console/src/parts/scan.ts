import { useEffect } from "react";
import { useNavigate } from "react-router";
import { api, take } from "../api/client";

/** Keys this close together come from a scanner, not from fingers. */
const fast = 40;

const pages: Record<string, (key: string) => string> = {
  order: (k) => `/orders/${k}`,
  parcel: (k) => `/parcels/${k}`,
  shipment: (k) => `/pack/${k}`,
  return: (k) => `/returns/${k}`,
  item: (k) => `/items/${k}`,
  purchase: (k) => `/receiving/${k}`,
  transfer: (k) => `/transfers/${k}`,
};

/** Opens whatever is scanned while no field has the focus. */
export function useScanAnywhere(onNone: (code: string) => void) {
  const navigate = useNavigate();
  useEffect(() => {
    let text = "";
    let last = 0;
    const down = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (target.closest("input, textarea, select, [contenteditable]") || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.timeStamp - last > fast) text = "";
      last = e.timeStamp;
      if (e.key === "Enter") {
        const code = text;
        text = "";
        if (code.length < 4) return;
        e.preventDefault();
        void take(api.GET("/api/v1/find", { params: { query: { code } } })).then((found) => {
          const page = pages[found.kind];
          if (page) void navigate(page(encodeURIComponent(found.key)));
          else onNone(code);
        });
      } else if (e.key.length === 1) text += e.key;
    };
    window.addEventListener("keydown", down, true);
    return () => window.removeEventListener("keydown", down, true);
  }, [navigate, onNone]);
}
