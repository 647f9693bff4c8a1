import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, take } from "../../api/client";
import { Button, Trouble } from "../../parts/controls";
import { Labelled } from "../../parts/fields";
import { Lamp } from "../../parts/lamp";

/** One's own password, changed by who knows the present one. */
export function OwnPassword({ email }: { email: string }) {
  const client = useQueryClient();
  const [old, setOld] = useState("");
  const [fresh, setFresh] = useState("");
  const [again, setAgain] = useState("");
  const change = useMutation({
    mutationFn: () => take(api.POST("/api/v1/me/password", { body: { old, new: fresh } })),
    onSuccess: () => {
      setOld("");
      setFresh("");
      setAgain("");
      void client.invalidateQueries({ queryKey: ["people"] });
    },
  });
  const differ = again !== "" && again !== fresh;
  return (
    <section aria-label="Your password">
      <h2>Your password</h2>
      <p className="mb-2 text-quiet">With a new one, your sessions elsewhere end.</p>
      <form
        className="flex flex-wrap items-start gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (!differ) change.mutate();
        }}
      >
        <input type="hidden" autoComplete="username" value={email} readOnly />
        <Labelled label="The present one">
          <input
            className="field w-52"
            type="password"
            autoComplete="current-password"
            required
            value={old}
            onChange={(e) => setOld(e.target.value)}
          />
        </Labelled>
        <Labelled label="The new one" help="At least 8 characters">
          <input
            className="field w-52"
            type="password"
            autoComplete="new-password"
            required
            minLength={8}
            value={fresh}
            onChange={(e) => setFresh(e.target.value)}
          />
        </Labelled>
        <Labelled label="The new one once more" help={differ ? "It is not the same" : ""}>
          <input
            className="field w-52"
            type="password"
            autoComplete="new-password"
            required
            value={again}
            onChange={(e) => setAgain(e.target.value)}
          />
        </Labelled>
        <Button type="submit" className="mt-[21px]" disabled={change.isPending || differ}>
          Change it
        </Button>
      </form>
      <Trouble error={change.error} />
      {change.isSuccess && (
        <p role="status">
          <Lamp state="go">It is changed</Lamp>
        </p>
      )}
    </section>
  );
}
