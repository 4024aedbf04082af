// Reordering by drag: drop a step on the step it shall come before, a request on the request, or on a step to become
// its last.
import { all, near, one } from "../dom.js";

const FAR_PX = 8; // a shorter way is a click
/** @type {{el: any, x: number, y: number, moved: boolean} | null} */
let drag = null;
let dropped = false;

const isRequest = (place) => place.dataset.at.includes("/");

/** The place under the pointer on which what is dragged can be dropped. @param {PointerEvent} event */
const targetOf = (event) => {
  const el = document.elementFromPoint(event.clientX, event.clientY);
  const place = /** @type {any} */ (el && el.closest("#ladder a[data-at]"));
  if (!place || !drag || place === drag.el) return null;
  return isRequest(drag.el) || !isRequest(place) ? place : null;
};

const clear = () => {
  for (const el of all("#ladder .is-target, #ladder .is-dragged")) el.classList.remove("is-target", "is-dragged");
};

const drop = (at, before) => {
  const values = {
    at,
    what: "place",
    before,
    parent: one("#parent").value,
    filter: one(".sieve input")?.value || "",
  };
  window.htmx.ajax("POST", one("#ladder").dataset.edit, { target: "#panel", swap: "innerHTML", values });
};

document.addEventListener("dragstart", (event) => {
  if (near(event, "#ladder")) event.preventDefault();
});
document.addEventListener("pointerdown", (event) => {
  const isPlain = event.button === 0 && !event.ctrlKey && !event.shiftKey && !event.metaKey;
  const el = isPlain ? near(event, "#ladder[data-edit] a[data-at]") : null;
  drag = el ? { el, x: event.clientX, y: event.clientY, moved: false } : null;
});
document.addEventListener("pointermove", (event) => {
  if (!drag || !(event.buttons & 1)) return;
  if (!drag.moved && Math.hypot(event.clientX - drag.x, event.clientY - drag.y) < FAR_PX) return;
  drag.moved = true;
  clear();
  drag.el.classList.add("is-dragged");
  targetOf(event)?.classList.add("is-target");
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const to = drag.moved ? targetOf(event) : null;
  const { at } = drag.el.dataset;
  dropped = drag.moved;
  drag = null;
  clear();
  if (to) drop(at, to.dataset.at);
  setTimeout(() => (dropped = false), 0);
});
document.addEventListener(
  "click",
  (event) => {
    if (!dropped || !near(event, "#ladder")) return;
    event.preventDefault();
    event.stopImmediatePropagation();
  },
  true,
);
document.addEventListener("keydown", (event) => {
  if (event.key !== "Escape" || !drag) return;
  drag = null;
  clear();
});
