// How the editor looks: in our inks.

export const highlighting = (cm) =>
  cm.syntaxHighlighting(
    cm.HighlightStyle.define([
      { tag: cm.tags.propertyName, color: "var(--indigo)" },
      { tag: cm.tags.definition(cm.tags.propertyName), color: "var(--indigo)" },
      { tag: [cm.tags.string, cm.tags.content], color: "var(--ink)" },
      { tag: [cm.tags.number, cm.tags.bool, cm.tags.atom], color: "var(--ochre)" },
      { tag: cm.tags.comment, color: "var(--faded)", fontStyle: "italic" },
      { tag: cm.tags.punctuation, color: "var(--faded)" },
    ]),
  );

const light = (ink, share) => `color-mix(in srgb, var(--${ink}) ${share}%, transparent)`;

/** @param {any} cm @param {string} least height when it is empty */
export const theme = (cm, least) =>
  cm.EditorView.theme({
    "&": { fontSize: "13px", backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--ruling)" },
    "&.cm-focused": { outline: "2px solid var(--verdigris)" },
    ".cm-content, .cm-scroller": { fontFamily: "Recursive, monospace", fontVariationSettings: '"MONO" 1' },
    ".cm-content": { caretColor: "var(--ink)" },
    ".cm-cursor": { borderLeftColor: "var(--ink)" },
    ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--faded)", borderRight: "1px solid var(--ruling)" },
    ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: light("verdigris", 8) },
    ".cm-tooltip": { backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--ruling)" },
    ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--verdigris)", color: "var(--paper)" },
    "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
      backgroundColor: light("indigo", 25),
    },
    ".cm-panels": { backgroundColor: "var(--paper)", color: "var(--ink)" },
    ".cm-completionDetail": { color: "var(--faded)" },
    "li[aria-selected] .cm-completionDetail": { color: "var(--paper)" },
    ".cm-matchingBracket": { backgroundColor: `${light("ochre", 30)} !important` },
    ".cm-scroller": { overflow: "auto", maxHeight: "70vh", minHeight: least },
  });
