// The editor of text forms and of Python functions: what is typed is kept at once; errors stand where they are; keys
// and values are offered.
import { make, one } from "../dom.js";
import { completing } from "./completion.js";
import { highlighting, theme } from "./looks.js";
import { Saving } from "./saving.js";

const cm = window.codemirror;
const area = one("textarea[data-editor]");

const given = (id) => {
  const el = document.getElementById(id);
  return el ? JSON.parse(el.textContent) : {};
};

const marks = (view, problems) =>
  (problems || []).map((problem) => {
    const { doc } = view.state;
    const line = doc.line(Math.max(1, Math.min(doc.lines, problem.line || 1)));
    const from = Math.min(line.to, line.from + Math.max(0, (problem.column || 1) - 1));
    return { from, to: Math.max(from, line.to), severity: problem.kind || "error", message: problem.message };
  });

const keymap = (save) =>
  cm.keymap.of([
    { key: "Mod-s", preventDefault: true, run: () => save() || true },
    { key: "Mod-]", run: cm.indentMore },
    { key: "Mod-[", run: cm.indentLess },
    ...[cm.closeBracketsKeymap, cm.completionKeymap, cm.lintKeymap, cm.searchKeymap, cm.foldKeymap].flat(),
    ...cm.historyKeymap,
    ...cm.defaultKeymap,
  ]);

const basics = () => [
  ...[cm.lineNumbers(), cm.foldGutter(), cm.lintGutter(), cm.highlightActiveLine(), cm.highlightActiveLineGutter()],
  ...[cm.drawSelection(), cm.history(), cm.bracketMatching(), cm.closeBrackets(), cm.highlightSelectionMatches()],
];

const language = (isPython) => {
  if (isPython) return [];
  const complete = completing(given("schema"), given("values-known"));
  const offering = cm.autocompletion({ override: [complete], activateOnTyping: true });
  return [cm.yaml(), highlighting(cm), offering];
};

const start = () => {
  const isPython = area.dataset.editor === "python";
  const isKept = isPython || area.dataset.editor === "journey";
  const host = make("div", "", "editor");
  area.before(host);
  // its styles are adopted there, so that the page's policy stays strict
  const root = host.attachShadow({ mode: "open" });
  const saving = new Saving(area, (problems) => show(problems));
  const changed = (update) => {
    if (!update.docChanged) return;
    area.value = update.state.doc.toString();
    if (isKept) saving.typed();
  };
  const label = { "aria-label": area.getAttribute("aria-label"), spellcheck: "false", tabindex: "0" };
  const extensions = [
    ...[...basics(), ...language(isPython), theme(cm, isPython ? "340px" : "0")],
    cm.indentUnit.of(isPython ? "    " : "  "),
    cm.EditorState.tabSize.of(isPython ? 4 : 2),
    cm.EditorState.readOnly.of(area.readOnly),
    cm.EditorView.contentAttributes.of(label),
    keymap(() => void saving.save()),
    cm.EditorView.updateListener.of(changed),
    cm.EditorView.domEventHandlers({ blur: () => void (saving.timer && saving.save()) }),
  ];
  const state = cm.EditorState.create({ doc: area.value, extensions });
  const view = new cm.EditorView({ root, parent: root, state });
  const show = (problems) => view.dispatch(cm.setDiagnostics(view.state, marks(view, problems)));
  area.hidden = true;
  if (one("#problems-now")) show(given("problems-now"));
  addEventListener("beforeunload", (event) => {
    if (!saving.isUnsaved) return;
    saving.save();
    event.preventDefault();
  });
  // for tests and for other scripts of the page
  host.editor = {
    text: () => view.state.doc.toString(),
    replace: (text) => view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } }),
    view,
  };
};

if (area && cm) start();
