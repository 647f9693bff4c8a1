import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, take } from "../../api/client";
import { Button, Head } from "../../parts/controls";
import { SecondFactor } from "./factor";

/** Who is asked for a second factor and has none: nothing else can be done before. */
export default function FactorFirst({ name }: { name: string }) {
  const client = useQueryClient();
  const leave = useMutation({
    mutationFn: () => take(api.DELETE("/api/v1/session")),
    onSettled: () => client.resetQueries({ queryKey: ["me"] }),
  });
  return (
    <main className="mx-auto mt-16 max-w-2xl px-4">
      <Head title={`One step more, ${name}`} sub="The company demands a second factor of you">
        <Button kind="quiet" onClick={() => leave.mutate()}>
          Sign out
        </Button>
      </Head>
      <SecondFactor />
    </main>
  );
}
