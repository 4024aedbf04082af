// The editor of text forms and of Python functions: what is typed is kept at once; errors stand where they are; keys
// and values are offered.
"use strict";
(() => {
  const area = document.querySelector("textarea[data-editor]");
  if (!area || !window.codemirror) return;
  const cm = window.codemirror,
    json = (id) => {
      const el = document.getElementById(id);
      return el ? JSON.parse(el.textContent) : {};
    };
  const schema = json("schema"),
    names = json("values-known"),
    token = area.form.querySelector("[name=parent]"),
    says = document.getElementById("editor-says");
  const python = area.dataset.editor === "python",
    keeps = python || area.dataset.editor === "journey";

  // what may stand at a place: the path of keys above it, walked down the schema
  const deref = (node) => {
    while (node && node.$ref) node = schema.$defs[node.$ref.split("/").pop()];
    return node;
  };
  const choices = (node) => {
    node = deref(node);
    return !node ? [] : node.anyOf ? node.anyOf.flatMap(choices) : [node];
  };
  const down = (nodes, key) =>
    nodes.flatMap((n) => (n.properties && n.properties[key] ? choices(n.properties[key]) : []));
  const inside = (nodes) => nodes.flatMap((n) => (n.items ? choices(n.items) : [n]));
  const pathAt = (doc, number, indent) => {
    // keys of the lines above that this one belongs to
    const path = [];
    let least = indent;
    for (let n = number - 1; n > 0 && least > 0; n--) {
      const line = doc.line(n).text,
        found = /^(\s*)((?:- )*)([\w-]+):\s*(.*)$/.exec(line);
      if (!found) continue;
      const outer = found[1].length,
        own = outer + found[2].length;
      if (own < least && found[4] === "") {
        path.unshift(found[3]);
        least = outer;
        if (found[2]) least = outer;
      } else if (found[2] && own === least) least = outer + 1; // the first key of the list entry this one is in
    }
    return path;
  };
  const complete = (context) => {
    const line = context.state.doc.lineAt(context.pos),
      before = line.text.slice(0, context.pos - line.from);
    const hole = /\{\{\s*([\w.-]*)$/.exec(before);
    if (hole)
      return {
        from: context.pos - hole[1].length,
        options: [
          ...Object.entries(names).map(([label, v]) => ({
            label,
            type: "variable",
            detail: v.last ? "last: " + v.last.slice(0, 30) : "",
            info: v.from,
          })),
          ...[
            "make.uuid",
            "make.milliseconds",
            "make.seconds",
            "make.number(1, 600)",
            "make.text(20)",
            "make.date(%d.%m.%Y, 1)",
          ].map((label) => ({ label, type: "function" })),
        ],
        validFor: /[\w.-]*/,
      };
    const key = /^(\s*)((?:- )*)([\w-]*)$/.exec(before),
      value = /^(\s*)((?:- )*)([\w-]+):\s+([\w-]*)$/.exec(before),
      flow = /[{,]\s*([\w-]*)$/.exec(before);
    const nodesFor = (indent) =>
      pathAt(context.state.doc, line.number, indent).reduce(
        (nodes, each) => inside(down(nodes, each)),
        choices(schema),
      );
    const keys = (nodes, from) => {
      const seen = new Map();
      nodes.forEach((n) =>
        Object.entries(n.properties || {}).forEach(([label, what]) => {
          const d = deref(what) || {};
          seen.set(label, {
            label,
            type: "property",
            apply: label + ": ",
            detail: (n.required || []).includes(label) ? "needed" : "",
            info: what.description || d.description || undefined,
          });
        }),
      );
      return { from, options: [...seen.values()], validFor: /[\w-]*/ };
    };
    if (key && (key[3] || context.explicit))
      return keys(nodesFor(key[1].length + key[2].length), context.pos - key[3].length);
    if (value) {
      const options = down(nodesFor(value[1].length + value[2].length), value[3]).flatMap((n) =>
        (n.enum || []).map(String).concat(n.type === "boolean" ? ["true", "false"] : []),
      );
      const methods = value[3] === "method" ? ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"] : [];
      return {
        from: context.pos - value[4].length,
        options: [...options, ...methods].map((label) => ({ label, type: "enum" })),
        validFor: /[\w-]*/,
      };
    }
    if (flow && (flow[1] || context.explicit)) {
      // { … } in one line: the keys before it on the line lead there
      const path = [...before.matchAll(/(?:^|[\s{,])(?:- )?([\w-]+):\s*(?=\{(?![^{}]*\}))/g)].map((m) => m[1]),
        start = /^(\s*)((?:- )*)/.exec(before);
      const list = /^\s*- \{/.test(before);
      return keys(
        path.reduce(
          (nodes, each) => inside(down(nodes, each)),
          nodesFor(start[1].length + (list ? 1 : start[2].length)),
        ),
        context.pos - flow[1].length,
      );
    }
    return null;
  };

  const show = (found) => {
    const doc = view.state.doc;
    view.dispatch(
      cm.setDiagnostics(
        view.state,
        (found || []).map((p) => {
          const line = doc.line(Math.max(1, Math.min(doc.lines, p.line || 1))),
            from = Math.min(line.to, line.from + Math.max(0, (p.column || 1) - 1));
          return { from, to: Math.max(from, line.to), severity: p.kind || "error", message: p.message };
        }),
      ),
    );
  };
  let timer = 0,
    asked = 0,
    waiting = false,
    last = area.value;
  const save = async () => {
    clearTimeout(timer);
    timer = 0;
    const text = view.state.doc.toString();
    area.value = text;
    if (text === last || waiting) {
      if (waiting) timer = setTimeout(save, 100);
      return;
    }
    waiting = true;
    const mine = ++asked;
    try {
      const body = new URLSearchParams(new FormData(area.form));
      body.set(area.name, text);
      const answer = await fetch(area.form.action || location.href, {
        method: "POST",
        body,
        headers: { Accept: "application/json", "X-Tab": document.documentElement.dataset.tab || "" },
      });
      const told = await answer.json();
      last = text;
      if (told.token) token.value = told.token;
      const both = document.querySelector("[data-newest]");
      if (both) {
        both.hidden = !told.newest;
        if (told.newest) {
          both.querySelector("[data-theirs]").textContent = told.newest;
          both.querySelector("[name=over]").value = told.head;
        }
      }
      area.dispatchEvent(new CustomEvent("kept", { detail: told }));
      if (mine === asked) {
        show(told.problems);
        says.textContent = told.says;
        says.className = "small " + (told.kind === "error" ? "bad" : told.kind === "saved" ? "good" : "faded");
      }
    } catch {
      says.textContent = "Dynamikos can't be reached; the text stays here and is sent again.";
      says.className = "small bad";
      timer = setTimeout(save, 2000);
    } finally {
      waiting = false;
    }
  };
  const look = cm.HighlightStyle.define([
    { tag: cm.tags.propertyName, color: "var(--indigo)" },
    { tag: cm.tags.definition(cm.tags.propertyName), color: "var(--indigo)" },
    { tag: [cm.tags.string, cm.tags.content], color: "var(--ink)" },
    { tag: [cm.tags.number, cm.tags.bool, cm.tags.atom], color: "var(--ochre)" },
    { tag: cm.tags.comment, color: "var(--faded)", fontStyle: "italic" },
    { tag: cm.tags.punctuation, color: "var(--faded)" },
  ]);
  const theme = cm.EditorView.theme({
    "&": { fontSize: "13px", backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--ruling)" },
    "&.cm-focused": { outline: "2px solid var(--verdigris)" },
    ".cm-content, .cm-scroller": { fontFamily: "Recursive, monospace", fontVariationSettings: '"MONO" 1' },
    ".cm-content": { caretColor: "var(--ink)" },
    ".cm-cursor": { borderLeftColor: "var(--ink)" },
    ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--faded)", borderRight: "1px solid var(--ruling)" },
    ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in srgb, var(--verdigris) 8%, transparent)" },
    ".cm-tooltip": { backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--ruling)" },
    ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--verdigris)", color: "var(--paper)" },
    "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": {
      backgroundColor: "color-mix(in srgb, var(--indigo) 25%, transparent)",
    },
    ".cm-panels": { backgroundColor: "var(--paper)", color: "var(--ink)" },
    ".cm-completionDetail": { color: "var(--faded)" },
    "li[aria-selected] .cm-completionDetail": { color: "var(--paper)" },
    ".cm-matchingBracket": { backgroundColor: "color-mix(in srgb, var(--ochre) 30%, transparent) !important" },
    ".cm-scroller": { overflow: "auto", maxHeight: "70vh", minHeight: python ? "340px" : "0" },
  });
  const host = document.createElement("div");
  host.className = "editor";
  area.before(host);
  // its styles are adopted there, so that the page's policy stays strict
  const root = host.attachShadow({ mode: "open" });
  const view = new cm.EditorView({
    root,
    parent: root,
    state: cm.EditorState.create({
      doc: area.value,
      extensions: [
        cm.lineNumbers(),
        cm.foldGutter(),
        cm.lintGutter(),
        cm.highlightActiveLine(),
        cm.highlightActiveLineGutter(),
        cm.drawSelection(),
        cm.history(),
        cm.bracketMatching(),
        cm.closeBrackets(),
        cm.highlightSelectionMatches(),
        ...(python
          ? []
          : [
              cm.yaml(),
              cm.syntaxHighlighting(look),
              cm.autocompletion({ override: [complete], activateOnTyping: true }),
            ]),
        theme,
        cm.indentUnit.of(python ? "    " : "  "),
        cm.EditorState.tabSize.of(python ? 4 : 2),
        cm.EditorState.readOnly.of(area.readOnly),
        cm.EditorView.contentAttributes.of({
          "aria-label": area.getAttribute("aria-label"),
          spellcheck: "false",
          tabindex: "0",
        }),
        cm.keymap.of([
          {
            key: "Mod-s",
            preventDefault: true,
            run: () => {
              save();
              return true;
            },
          },
          { key: "Mod-]", run: cm.indentMore },
          { key: "Mod-[", run: cm.indentLess },
          ...cm.closeBracketsKeymap,
          ...cm.completionKeymap,
          ...cm.lintKeymap,
          ...cm.searchKeymap,
          ...cm.foldKeymap,
          ...cm.historyKeymap,
          ...cm.defaultKeymap,
        ]),
        cm.EditorView.updateListener.of((update) => {
          if (update.docChanged) {
            area.value = update.state.doc.toString();
            clearTimeout(timer);
            if (keeps) {
              timer = setTimeout(save, 600);
              says.textContent = "…";
              says.className = "small faded";
            }
          }
        }),
        cm.EditorView.domEventHandlers({
          blur: () => {
            if (timer) save();
          },
        }),
      ],
    }),
  });
  area.hidden = true;
  if (document.getElementById("problems-now")) show(json("problems-now"));
  window.addEventListener("beforeunload", (e) => {
    if (timer || waiting) {
      save();
      e.preventDefault();
    }
  });
  // for tests and for other scripts of the page
  host.editor = {
    text: () => view.state.doc.toString(),
    replace: (text) => view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } }),
    view,
  };
})();
