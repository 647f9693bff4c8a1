import { useMutation, useQuery } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Lamp } from "../../parts/lamp";

/** Prints a paper on the printer of its place. */
export function PrintButton({ paper, numbers, name }: { paper: "label" | "packing slip"; numbers: string[]; name: string }) {
  const printers = useQuery({ queryKey: ["rows", "printers"], queryFn: () => take(api.GET("/api/v1/printers")) });
  const print = useMutation({ mutationFn: () => take(api.POST("/api/v1/print", { body: { paper, numbers } })) });
  if (!printers.data?.rows?.some((p) => p.papers?.includes(paper))) return null;
  return (
    <span className="inline-flex items-center gap-3">
      <Button large onClick={() => print.mutate()} disabled={print.isPending}>
        {name}
      </Button>
      {print.data && <Lamp state="busy">goes to {print.data.printer_name}</Lamp>}
      <Trouble error={print.error} />
    </span>
  );
}
