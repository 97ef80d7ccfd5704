import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, hoverTooltip } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { basicSetup } from "codemirror";
import { useEffect, useRef } from "react";
import { helpAt, offers } from "./sheet-schema";

export type Wrong = { line: number; column: number; text: string };

const colour = (name: string) => `var(--chakra-colors-${name})`;

const look = EditorView.theme({
  "&": { backgroundColor: colour("bg-panel"), color: colour("fg"), fontSize: "13px", height: "100%" },
  ".cm-scroller": { fontFamily: "var(--chakra-fonts-mono)", lineHeight: "1.5" },
  ".cm-gutters": { backgroundColor: colour("bg-rail"), color: colour("fg-quiet"), border: "none" },
  ".cm-activeLine, .cm-activeLineGutter": {
    backgroundColor: "color-mix(in srgb, currentColor 7%, transparent)",
  },
  ".cm-cursor": { borderLeftColor: colour("fg") },
  "&.cm-focused": { outline: `2px solid ${colour("deep-focus-ring")}`, outlineOffset: "-1px" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "color-mix(in srgb, currentColor 20%, transparent)",
  },
  ".cm-tooltip": { backgroundColor: colour("bg-panel"), color: colour("fg"), borderColor: colour("line") },
  ".cm-tooltip-autocomplete > ul > li[aria-selected]": {
    backgroundColor: colour("deep-solid"),
    color: colour("deep-contrast"),
  },
  ".cm-help": { padding: "6px 10px", maxWidth: "28rem" },
});

const words = HighlightStyle.define([
  { tag: tags.comment, color: colour("fg-quiet"), fontStyle: "italic" },
  {
    tag: [tags.propertyName, tags.definition(tags.propertyName)],
    color: colour("deep-fg"),
    fontWeight: "600",
  },
  { tag: [tags.bool, tags.number, tags.null, tags.keyword], color: colour("orange-fg") },
]);

const completions = autocompletion({
  override: [
    (at: CompletionContext) => {
      const { from, offers: list } = offers(at.state.doc.toString(), at.pos);
      if (list.length === 0 || (from === at.pos && !at.explicit)) return null;
      return {
        from,
        options: list.map((o) => ({ label: o.label, apply: o.insert, detail: o.help, type: "property" })),
        validFor: /^[\w-]*$/,
      };
    },
  ],
});

const help = hoverTooltip((view, position) => {
  const of = helpAt(view.state.doc.toString(), position);
  if (!of) return null;
  return {
    pos: of.from,
    end: of.to,
    create: () => {
      const dom = document.createElement("div");
      dom.className = "cm-help";
      dom.textContent = of.help;
      return { dom };
    },
  };
});

/** A text editor for sheets, with what is wrong marked where it is, and the schema's help. */
export default function SheetEditor(props: {
  text: string;
  set?: (text: string) => void; // it is only read if not given
  wrong: Wrong[];
  goTo?: { line: number }; // a new one each time that it is to go somewhere
}) {
  const box = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const set = useRef(props.set);
  set.current = props.set;
  const first = useRef(props.text);
  const readOnly = !props.set;

  useEffect(() => {
    if (!box.current) return;
    const v = new EditorView({
      parent: box.current,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          basicSetup,
          yaml(),
          look,
          syntaxHighlighting(words),
          completions,
          help,
          lintGutter(),
          EditorState.readOnly.of(readOnly),
          EditorView.editable.of(!readOnly),
          EditorView.contentAttributes.of({ "aria-label": "Build sheet" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) set.current?.(u.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
  }, [readOnly]);

  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== props.text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: props.text } });
  }, [props.text]);

  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const marks = props.wrong.map((w): Diagnostic => {
      const line = v.state.doc.line(Math.min(Math.max(w.line, 1), v.state.doc.lines));
      const from = Math.min(line.from + w.column - 1, line.to);
      return { from, to: Math.max(from, line.to), severity: "error", message: w.text };
    });
    v.dispatch(setDiagnostics(v.state, marks));
  }, [props.wrong]);

  useEffect(() => {
    const v = view.current;
    if (!v || !props.goTo) return;
    const line = v.state.doc.line(Math.min(Math.max(props.goTo.line, 1), v.state.doc.lines));
    v.dispatch({
      selection: { anchor: line.from },
      effects: EditorView.scrollIntoView(line.from, { y: "center" }),
    });
    v.focus();
  }, [props.goTo]);

  return <div ref={box} style={{ height: "100%" }} />;
}
