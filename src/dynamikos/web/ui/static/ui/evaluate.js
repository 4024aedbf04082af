// What a text with {{ }} comes to, beneath its field, while it is typed: computed by a worker on the last rehearsal's
// values.
import { make, one, send } from "./dom.js";

const SOON_MS = 350;
const AROUND = 24; // characters shown around what is wrong
const panel = one("#panel");
const waiting = new WeakMap();
const asked = new WeakMap();

const lineBelow = (field) => {
  const el = field.nextElementSibling;
  return el && el.classList.contains("comes-to") ? el : null;
};

const lineOf = (field) => {
  const there = lineBelow(field);
  if (there) return there;
  const el = make("span", "", "comes-to");
  el.setAttribute("role", "status");
  field.after(el);
  return el;
};

/** The text around what is wrong, the piece itself marked. */
const where = (text, start, end) => {
  const from = Math.max(0, start - AROUND);
  const code = make("span", "", "mono where");
  const after = text.slice(end, end + AROUND) + (text.length > end + AROUND ? "…" : "");
  code.append((from ? "…" : "") + text.slice(from, start), make("mark", text.slice(start, end) || "…"), after);
  return code;
};

const show = (field, text, found) => {
  const el = lineOf(field);
  el.classList.toggle("bad", Boolean(found.problem));
  el.textContent = found.problem ? found.problem.replace(/^'\{\{[^]*?\}\}'(: | )/, "") : `= ${found.value}`;
  if (found.problem && found.end) {
    el.prepend(where(text, found.start, found.end), ` at character ${found.start + 1}: `);
  }
};

const ask = async (field) => {
  const text = field.value;
  if (!text.includes("{{")) {
    lineBelow(field)?.remove();
    return;
  }
  const number = (asked.get(field) || 0) + 1;
  asked.set(field, number);
  try {
    const { found } = await send(panel.dataset.evaluate, { text, kind: field.dataset.kind || "text" });
    if (asked.get(field) === number) show(field, text, found);
  } catch {
    // the page says so itself when the connection is gone
  }
};

if (panel && panel.dataset.evaluate) {
  panel.addEventListener("input", (event) => {
    const el = event.target;
    if (!el.matches("input.code, textarea.code") || el.name.endsWith("-name")) return;
    clearTimeout(waiting.get(el));
    const timer = setTimeout(() => ask(el), SOON_MS);
    waiting.set(el, timer);
  });
  panel.addEventListener("focusin", (event) => {
    const el = event.target;
    const isAsked = el.matches("input[data-kind], input[name$=-value], input[name=text]");
    if (isAsked && el.value.includes("{{")) ask(el);
  });
}
