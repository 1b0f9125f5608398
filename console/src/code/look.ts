// How all editors look.

import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";

const colour = (name: string) => `var(--chakra-colors-${name})`;

export const look = [
  EditorView.theme({
    "&": { backgroundColor: colour("sheet"), color: colour("ink"), fontSize: "12.5px", border: `1px solid ${colour("control")}`, borderRadius: "4px" },
    "&.cm-focused": { outline: `2px solid ${colour("accent")}`, outlineOffset: "-1px" },
    ".cm-scroller": { fontFamily: "'JetBrains Mono Variable', ui-monospace, monospace", lineHeight: "1.55" },
    ".cm-content": { caretColor: colour("ink"), padding: "6px 0" },
    ".cm-line": { padding: "0 8px" },
    ".cm-gutters": { backgroundColor: "transparent", border: "none", color: colour("faint") },
    ".cm-placeholder": { color: colour("faint") },
    ".cm-cursor": { borderLeftColor: colour("ink") },
    "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "color-mix(in srgb, currentColor 14%, transparent) !important" },
    ".cm-matchingBracket": { backgroundColor: "color-mix(in srgb, currentColor 12%, transparent)", outline: "none" },
    ".cm-tooltip": { backgroundColor: colour("sheet"), color: colour("ink"), border: `1px solid ${colour("line")}`, borderRadius: "4px", boxShadow: "0 3px 14px rgba(0,0,0,.14)" },
    ".cm-tooltip-autocomplete > ul": { fontFamily: "'JetBrains Mono Variable', ui-monospace, monospace", fontSize: "12px", maxHeight: "15em" },
    ".cm-tooltip-autocomplete > ul > li": { padding: "3px 10px" },
    ".cm-tooltip-autocomplete > ul > li[aria-selected]": { backgroundColor: colour("accent"), color: colour("sheet") },
    ".cm-completionDetail": { fontStyle: "normal", opacity: "0.7", marginLeft: "1em" },
    ".cm-completionMatchedText": { textDecoration: "none", fontWeight: "700" },
    ".cm-completionInfo": { maxWidth: "300px", padding: "6px 10px", fontFamily: "'Figtree Variable', sans-serif", fontSize: "13px" },
    ".cm-diagnostic": { borderLeft: `3px solid ${colour("failure")}`, fontFamily: "'Figtree Variable', sans-serif" },
    ".cm-lintRange-error": { backgroundImage: "none", textDecoration: `underline wavy ${colour("failure")}`, textUnderlineOffset: "4px" },
    ".cm-foldPlaceholder": { backgroundColor: "transparent", border: "none", color: colour("faint") },
  }),
  syntaxHighlighting(
    HighlightStyle.define([
      { tag: [tags.keyword, tags.definitionKeyword, tags.operatorKeyword], color: colour("accent"), fontWeight: "600" },
      { tag: [tags.string, tags.special(tags.string)], color: colour("good") },
      { tag: [tags.number, tags.bool, tags.null, tags.atom], color: colour("warning") },
      { tag: [tags.comment], color: colour("faint"), fontStyle: "italic" },
      { tag: [tags.variableName, tags.special(tags.variableName)], color: colour("warning") },
      { tag: [tags.punctuation, tags.bracket], color: colour("faint") },
    ]),
  ),
];
