import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, take } from "../../api/client";
import { Labelled } from "../../parts/fields";
import { Lamp } from "../../parts/lamp";
import { Conditions } from "./conditions";
import { phrase, useWords, type Comparison } from "./words";

const read = (when: string) => take(api.POST("/api/v1/rules/read", { body: { when, then: 'tag("x")' } }));

/** A condition read out as a sentence, where it is one; else as its text. */
export function WhenText({ when }: { when: string }) {
  const words = useWords();
  const q = useQuery({ queryKey: ["rule sentence", when], queryFn: () => read(when), enabled: when !== "", staleTime: Infinity });
  if (when === "") return <span className="text-quiet">always</span>;
  const s = q.data?.sentence;
  if (!s || !words.data) return <code className="code">{when}</code>;
  return (
    <>
      {s.conditions.map((c, i) => (
        <span key={i}>
          {i > 0 && <span className="text-quiet">{s.any ? " or " : " and "}</span>}
          {phrase(c, words.data.fields)}
        </span>
      ))}
    </>
  );
}

type Said = { any: boolean; conditions: Comparison[] };

const nothing: Said = { any: false, conditions: [] };

/** A condition on an order, as a sentence and as text beside it; either can be edited. Empty: it always holds. */
export function WhenField({ value, onChange, always }: { value: string; onChange: (when: string) => void; always: string }) {
  const words = useWords();
  const [opened] = useState(value);
  const first = useQuery({ queryKey: ["rule sentence", opened], queryFn: () => read(opened), enabled: opened !== "", staleTime: Infinity });
  const [edited, setEdited] = useState<Said | null>();
  const [problem, setProblem] = useState("");
  const sentence = edited === undefined ? (opened === "" ? nothing : first.data?.sentence) : edited;
  const asked = useRef(0);
  const reading = useMutation({ mutationFn: read });
  const writing = useMutation({
    mutationFn: (s: Said) => take(api.POST("/api/v1/rules/read", { body: { sentence: s, then: 'tag("x")' } })),
  });
  const understand = (text: string) => {
    const n = ++asked.current;
    if (text.trim() === "") {
      setProblem("");
      return setEdited(nothing);
    }
    reading.mutate(text, {
      onSuccess: (r) => {
        if (n !== asked.current) return;
        setEdited(r.sentence ?? null);
        setProblem(r.problem ?? "");
      },
    });
  };
  const typing = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => () => clearTimeout(typing.current), []);
  const type = (text: string) => {
    onChange(text);
    clearTimeout(typing.current);
    typing.current = setTimeout(() => understand(text), 300);
  };
  const build = (conditions: Comparison[], any: boolean) => {
    setEdited({ any, conditions });
    // A part that is not filled in yet stays in the sentence and out of the text.
    const whole = conditions.filter((c) => c.values.length > 0 && c.values.every((v) => v !== ""));
    const n = ++asked.current;
    setProblem("");
    if (whole.length === 0) return onChange("");
    writing.mutate(
      { any, conditions: whole },
      { onSuccess: (r) => n === asked.current && (onChange(r.when), setProblem(r.problem ?? "")) },
    );
  };
  return (
    <fieldset className="grid gap-2 sm:col-span-2">
      <legend className="text-quiet">{sentence?.conditions.length === 0 ? always : "When"}</legend>
      {sentence && words.data ? (
        <Conditions words={words.data} any={sentence.any} conditions={sentence.conditions} onChange={build} />
      ) : first.isLoading ? null : (
        <p className="text-quiet">The condition says more than a sentence can; edit it as text.</p>
      )}
      <Labelled label="The same as text" help="In CEL, as rules have it. Amounts are minor units, weights grams.">
        <textarea
          className="field code w-full"
          rows={2}
          spellCheck={false}
          maxLength={2000}
          value={value}
          onChange={(e) => type(e.target.value)}
        />
      </Labelled>
      {problem && (
        <p role="alert">
          <Lamp state="stop">
            <span className="whitespace-normal">{problem}</span>
          </Lamp>
        </p>
      )}
    </fieldset>
  );
}
