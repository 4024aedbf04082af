// What a person opened in the tables of a run stays open when they are made anew: rows unfolded, details, an exchange,
// and the focus.
import { all, one } from "./dom.js";

const focusable = (box) => all("a, button, summary", box);
const said = (el) => el.tagName + el.textContent;

const seen = (box) => {
  const now = document.activeElement;
  return {
    rows: all("tr[id^='of-']:not([hidden])", box).map((row) => row.id),
    details: all("details[open][id]", box).map((el) => el.id),
    closers: all("tr.closer", box),
    focus: box.contains(now) ? said(now) : "",
  };
};

const show = (box, was) => {
  for (const id of was.rows) {
    const row = one(`#${CSS.escape(id)}`, box);
    if (row) row.hidden = false; // its disclosure looks when it begins (components/disclosure.js)
  }
  for (const id of was.details) {
    const el = one(`#${CSS.escape(id)}`, box);
    if (el) el.open = true;
  }
  for (const row of was.closers) {
    const opens = one(`[data-opens="${CSS.escape(row.dataset.of)}"]`, box);
    const isThere = one(`tr.closer[data-of="${CSS.escape(row.dataset.of)}"]`, box);
    if (isThere || row.isConnected || row.dataset.shut) continue;
    if (opens) opens.closest("tr").after(row);
    // what a person reads stays before them, also when the list does not name it any more
    else one(`tbody[data-keeps="${row.dataset.of[0]}"]`, box)?.prepend(row);
  }
  if (was.focus && !box.contains(document.activeElement)) {
    const same = focusable(box).find((el) => said(el) === was.focus);
    if (same) same.focus({ preventScroll: true });
  }
};

/**
 * Changes `box` and shows in it what was seen before.
 * @param {HTMLElement} box @param {() => void} change
 */
export const carrying = (box, change) => {
  const was = seen(box);
  change();
  show(box, was);
};

const LONGEST_MS = 5000; // that a change waits for a press: one that ends outside of the page is not told
let pressed = null;
document.addEventListener("pointerdown", (event) => (pressed = event.target), true);
for (const name of ["pointerup", "pointercancel"]) {
  document.addEventListener(name, () => setTimeout(() => (pressed = null), 0), true); // the click comes first
}

/**
 * When nobody presses anything in `box` and nothing that was clicked there is under way.
 * @param {HTMLElement} box
 */
export const untouched = async (box) => {
  const end = performance.now() + LONGEST_MS;
  const isPressed = () => box.contains(pressed) && performance.now() < end;
  const isAsking = () => one(".htmx-request", box); // ends by itself: htmx gives up after a minute
  while (isPressed() || isAsking()) await new Promise((go) => setTimeout(go, 30));
};

let before = null;
document.addEventListener("htmx:before:swap", () => {
  const tables = one("#tables");
  before = tables && seen(tables);
});
document.addEventListener("htmx:after:swap", () => {
  const tables = one("#tables");
  if (tables && before) show(tables, before);
});
