// Naming a stretch of a recording by dragging over the time strip.
import { near, one } from "./dom.js";

const NARROW_PX = 3; // less is a click
const form = one("#naming");
/** @typedef {{x: number, us: number}} Point on the strip: in its own units, and in µs of the recording */
/** @type {Point | null} */
let from = null;
/** @type {Point | null} */
let to = null;

/** @returns {Point} */
const pointOf = (strip, event) => {
  const box = strip.getBoundingClientRect();
  const share = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width));
  const [begin, end] = [Number(strip.dataset.from), Number(strip.dataset.to)];
  return { x: share * strip.viewBox.baseVal.width, us: Math.round(begin + share * (end - begin)) };
};

const show = () => {
  const chosen = one("#chosen");
  if (!chosen) return;
  const width = from && to ? Math.abs(to.x - from.x) : 0;
  chosen.setAttribute("x", width ? Math.min(from.x, to.x) : 0);
  chosen.setAttribute("width", width);
  form.elements.from.value = width ? Math.min(from.us, to.us) : "";
  form.elements.to.value = width ? Math.max(from.us, to.us) : "";
  const seconds = width ? (Math.abs(to.us - from.us) / 1e6).toFixed(1) : "";
  one("#range").textContent = width ? `in the chosen ${seconds} s` : "from now on";
};

const begin = (event) => {
  const strip = near(event, "#strip");
  if (!strip || strip.dataset.from === "0") return;
  from = pointOf(strip, event);
  to = from;
  event.preventDefault();
  show();
};
const go = (event) => {
  const strip = one("#strip");
  if (!from || !(event.buttons & 1) || !strip) return;
  to = pointOf(strip, event);
  show();
};
const end = (event) => {
  if (!from || !near(event, "#strip")) return;
  if (Math.abs(to.x - from.x) < NARROW_PX) {
    from = null;
    to = null;
  }
  show();
  if (from) form.elements.name.focus();
};

if (form) {
  document.addEventListener("pointerdown", begin);
  document.addEventListener("pointermove", go);
  document.addEventListener("pointerup", end);
  document.addEventListener("htmx:after:swap", show);
}
