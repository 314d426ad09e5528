import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { css } from "@codemirror/lang-css";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { basicSetup } from "codemirror";
import { useEffect, useRef } from "react";
import type { CheckedSheet, Property } from "../api/client";

interface Language {
  picture: Property[];
  layer: Property[];
}

// In the console's own colours, which hold on light grounds and dark ones.
const colours = HighlightStyle.define([
  { tag: tags.comment, color: "var(--soft)", fontStyle: "italic" },
  { tag: [tags.className, tags.tagName, tags.definitionKeyword, tags.keyword], color: "var(--accent)", fontWeight: "600" },
  { tag: tags.propertyName, color: "var(--ink)" },
  { tag: [tags.number, tags.unit, tags.string, tags.url, tags.color, tags.atom], color: "var(--accent)" },
]);

// What may be written where the cursor stands: a property, one of its words, or a class.
function completions(language: Language, classes: () => string[]) {
  return (c: CompletionContext) => {
    const before = c.state.sliceDoc(0, c.pos);
    const open = before.lastIndexOf("{");
    const inside = open > before.lastIndexOf("}") && !/@media[^{]*$/.test(before.slice(0, open));
    const word = c.matchBefore(/[\w.-]*/);
    if (!word || (word.from === word.to && !c.explicit)) return null;
    if (!inside) return word.text.startsWith(".") ? { from: word.from, options: classes().map((name) => ({ label: "." + name, type: "class" })) } : null;
    const layer = /(::?(after|before)|::layer\([^)]*\))\s*$/.test(before.slice(0, open));
    const line = before.slice(Math.max(before.lastIndexOf(";"), open) + 1);
    const list = layer ? language.layer : language.picture;
    const [name] = line.split(":");
    if (line.includes(":")) {
      const p = list.find((x) => x.name === name?.trim().toLowerCase());
      return p ? { from: word.from, options: p.keywords.map((k) => ({ label: k, type: "keyword" })) } : null;
    }
    return { from: word.from, options: list.map((p) => ({ label: p.name, type: "property", info: p.allowed, apply: p.name + ": " })) };
  };
}

// A CSS editor that marks what is wrong at its place.
export function Editor(props: { text: string; language: Language; classes: string[]; problems: CheckedSheet["problems"]; onChange: (text: string) => void }) {
  const at = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef(props);
  now.current = props;
  useEffect(() => {
    const v = new EditorView({
      parent: at.current!,
      state: EditorState.create({
        doc: now.current.text,
        extensions: [
          basicSetup,
          css(),
          syntaxHighlighting(colours),
          EditorView.lineWrapping,
          autocompletion({ override: [completions(now.current.language, () => now.current.classes)] }),
          EditorView.contentAttributes.of({ "aria-label": "The sheet" }),
          EditorView.updateListener.of((u) => {
            const text = u.state.doc.toString();
            if (u.docChanged && text !== now.current.text) now.current.onChange(text); // what comes from outside nobody has typed
          }),
          EditorView.theme({
            "&": { height: "100%", fontSize: "13px", backgroundColor: "var(--ground)", color: "var(--ink)" },
            ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--ink)" },
            ".cm-cursor": { borderLeftColor: "var(--ink)" },
            ".cm-gutters": { backgroundColor: "var(--panel)", color: "var(--soft)", borderRight: "1px solid var(--line)" },
            ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--panel)" },
            "&.cm-focused": { outline: "2px solid var(--accent)", outlineOffset: "-2px" },
            ".cm-tooltip": { backgroundColor: "var(--panel)", color: "var(--ink)", border: "1px solid var(--edge)" },
            ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--accent)", color: "var(--on-accent)" },
          }),
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, []);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== props.text) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: props.text } });
  }, [props.text]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const marks = props.problems.flatMap((p) => {
      if (p.line > v.state.doc.lines) return [];
      const line = v.state.doc.line(p.line);
      const from = Math.min(line.to, line.from + p.column - 1);
      const word = /^[\w.@%-]+/.exec(v.state.sliceDoc(from, line.to))?.[0].length ?? 1;
      return [{ from, to: Math.min(line.to, from + word), severity: "error" as const, message: p.detail + (p.nearest ? `; did you mean ${p.nearest}?` : "") + (p.allowed ? `\nAllowed: ${p.allowed}` : "") }];
    });
    v.dispatch(setDiagnostics(v.state, marks));
  }, [props.problems]);
  return <div ref={at} className="min-h-64 flex-1 overflow-hidden border border-edge" />;
}
