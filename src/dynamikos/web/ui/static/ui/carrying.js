// What a person opened in the tables of a run stays open when they are made anew: rows unfolded, details, an exchange,
// and the focus.
"use strict";
(() => {
  const all = (q, root) => [...root.querySelectorAll(q)];
  const focusable = (box) => all("a, button, summary", box);
  const said = (el) => el.tagName + el.textContent;

  const seen = (box) => {
    const now = document.activeElement;
    return {
      rows: all("tr[id^='of-']:not([hidden])", box).map((row) => row.id),
      details: all("details[open][id]", box).map((el) => el.id),
      kept: box.querySelector("#kept"),
      focus: box.contains(now) ? said(now) : "",
    };
  };
  const show = (box, was) => {
    for (const id of was.rows) {
      const row = box.querySelector(`#${CSS.escape(id)}`);
      const fold = box.querySelector(`[data-target="${CSS.escape(id)}"]`);
      if (row) row.hidden = false;
      if (row && fold) fold.setAttribute("aria-expanded", "true");
    }
    for (const id of was.details) {
      const el = box.querySelector(`#${CSS.escape(id)}`);
      if (el) el.open = true;
    }
    const kept = box.querySelector("#kept");
    if (kept && was.kept && kept !== was.kept && !kept.children.length) kept.replaceWith(was.kept);
    if (was.focus && !box.contains(document.activeElement)) {
      const same = focusable(box).find((el) => said(el) === was.focus);
      if (same) same.focus({ preventScroll: true });
    }
  };

  // changes `box` and shows in it what was seen before
  window.carrying = (box, change) => {
    const was = seen(box);
    change();
    show(box, was);
  };
  let before = null;
  const tables = () => document.getElementById("tables");
  document.addEventListener("htmx:before:swap", () => {
    before = tables() && seen(tables());
  });
  document.addEventListener("htmx:after:swap", () => {
    if (tables() && before) show(tables(), before);
  });
})();
