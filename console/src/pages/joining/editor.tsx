import { acceptCompletion, autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from "@codemirror/autocomplete";
import type { CompletionContext, CompletionResult } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentLess, indentMore } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { bracketMatching, HighlightStyle, indentUnit, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, lintKeymap, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useImperativeHandle, useRef, type Ref } from "react";
import type { Schema } from "../../api/client";

export type Place = { line: number; column: number };
export type EditorHandle = { goTo: (place: Place) => void };

type Complete = (text: string, place: Place) => Promise<Schema<"ConnectorCompletions">>;

const look = EditorView.theme({
  "&": { height: "100%", fontSize: "13px", color: "var(--ink)", backgroundColor: "var(--sheet)" },
  "&.cm-focused": { outline: "2px solid var(--ink)", outlineOffset: "1px" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "19px" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--quiet)", borderRight: "1px solid var(--rule)" },
  ".cm-activeLine": { backgroundColor: "color-mix(in srgb, var(--wash) 55%, transparent)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)", borderLeftWidth: "2px" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": {
    backgroundColor: "color-mix(in srgb, var(--busy) 28%, transparent) !important",
  },
  ".cm-matchingBracket": { backgroundColor: "var(--wash) !important", outline: "1px solid var(--rule)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--rule)", borderRadius: "3px" },
  ".cm-tooltip-autocomplete > ul": { fontFamily: "var(--font-mono) !important", fontSize: "12px", maxHeight: "14em" },
  ".cm-tooltip-autocomplete > ul > li": { padding: "2px 8px !important" },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": { backgroundColor: "var(--ink) !important", color: "var(--paper) !important" },
  ".cm-completionDetail": { fontStyle: "normal", fontFamily: "var(--font-sans)", opacity: "0.75", marginLeft: "12px" },
  ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "600" },
  ".cm-diagnostic-error": { borderLeft: "3px solid var(--stop)" },
});

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--busy)" },
  { tag: tags.comment, color: "var(--quiet)" },
  { tag: tags.string, color: "var(--go)" },
  { tag: [tags.bool, tags.number, tags.keyword, tags.null], color: "var(--caution)" },
]);

/** Columns as the service counts them: in characters, from 1. */
const columnOf = (text: string) => Array.from(text).length + 1;

/** How far into a line a column is, in the units of the browser. */
const unitsTo = (line: string, column: number) =>
  Array.from(line)
    .slice(0, Math.max(0, column - 1))
    .join("").length;

/** Asks what may stand where somebody types. Behind a space or a colon it is asked for by Ctrl+Space only. */
function source(complete: Complete) {
  return async (context: CompletionContext): Promise<CompletionResult | null> => {
    const begun = context.matchBefore(/[\w.]+$/);
    if (!context.explicit && !begun) return null;
    const line = context.state.doc.lineAt(context.pos);
    const typed = line.text.slice(0, context.pos - line.from);
    const found = await complete(context.state.doc.toString(), { line: line.number, column: columnOf(typed) }).catch(() => null);
    if (!found?.list.length) return null;
    return {
      from: line.from + unitsTo(line.text, found.from),
      options: found.list.map((c) => ({
        label: c.label,
        detail: c.detail,
        apply: c.insert,
        type: { key: "property", value: "constant", name: "variable", field: "property", function: "function" }[c.kind],
      })),
    };
  };
}

/** Where a definition is written, with what may stand there and what is wrong. Tab moves on, as everywhere; Ctrl+] sets lines in. */
export default function Editor({
  text,
  onChange,
  mistakes,
  complete,
  readOnly,
  ref,
}: {
  text: string;
  onChange: (to: string) => void;
  mistakes: Schema<"ConnectorMistake">[];
  complete: Complete;
  readOnly?: boolean;
  ref?: Ref<EditorHandle>;
}) {
  const at = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef({ onChange, complete });
  useEffect(() => {
    now.current = { onChange, complete };
  });
  const first = useRef(text);
  useEffect(() => {
    if (!at.current) return;
    const made = new EditorView({
      parent: at.current,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          bracketMatching(),
          closeBrackets(),
          indentUnit.of("  "),
          EditorState.tabSize.of(2),
          EditorState.readOnly.of(!!readOnly),
          yaml(),
          syntaxHighlighting(colours),
          lintGutter(),
          autocompletion({ override: [source((all, place) => now.current.complete(all, place))], icons: false }),
          keymap.of([
            { key: "Tab", run: acceptCompletion },
            { key: "Mod-]", run: indentMore },
            { key: "Mod-[", run: indentLess },
            ...closeBracketsKeymap,
            ...defaultKeymap,
            ...historyKeymap,
            ...completionKeymap,
            ...lintKeymap,
          ]),
          EditorView.contentAttributes.of({ "aria-label": "Definition", spellcheck: "false" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) now.current.onChange(u.state.doc.toString());
          }),
          look,
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, [readOnly]);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const doc = v.state.doc;
    v.dispatch(
      setDiagnostics(
        v.state,
        mistakes.map((m) => {
          const line = doc.line(Math.min(Math.max(m.line, 1), doc.lines));
          const from = Math.min(line.from + unitsTo(line.text, m.column), line.to);
          return { from, to: m.line ? line.to : from, severity: "error" as const, message: m.path ? `${m.path}: ${m.text}` : m.text };
        }),
      ),
    );
  }, [mistakes]);
  useImperativeHandle(ref, () => ({
    goTo({ line, column }) {
      const v = view.current;
      if (!v) return;
      const l = v.state.doc.line(Math.min(Math.max(line, 1), v.state.doc.lines));
      v.dispatch({ selection: { anchor: Math.min(l.from + unitsTo(l.text, column), l.to) }, scrollIntoView: true });
      v.focus();
    },
  }));
  return <div ref={at} className="h-full min-h-0 overflow-hidden border border-rule" />;
}
