/** What editors of files and of SQL look like. */
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName), tags.keyword], color: "var(--color-secondary)", fontWeight: "600" },
  { tag: tags.comment, color: "color-mix(in oklch, var(--color-base-content) 75%, transparent)", fontStyle: "italic" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--color-primary)" },
]);
const theme = EditorView.theme({
  "&": { backgroundColor: "transparent", fontSize: "13px", height: "100%" },
  "&.cm-focused": { outline: "none" },
  ".cm-gutters": { backgroundColor: "transparent", color: "color-mix(in oklch, var(--color-base-content) 75%, transparent)", border: "none" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in oklch, var(--color-base-content) 4%, transparent)" },
  ".cm-cursor": { borderLeftColor: "var(--color-base-content)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "color-mix(in oklch, var(--color-primary) 22%, transparent) !important",
  },
  ".cm-tooltip": { backgroundColor: "var(--color-base-100)", borderColor: "var(--color-base-300)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--color-primary)", color: "var(--color-primary-content)" },
});

export const looks = [syntaxHighlighting(colours), theme];
