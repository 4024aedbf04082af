// Values in {{ }} are shown as tokens: marked in the field, and told where they come from and what they were last.
import { all, one } from "../dom.js";
import { toldOf } from "./holes.js";
import { atCaret, isField, known, paint, paintAll, under } from "./mirror.js";

/** Tells of a marked value, or of none (components/tooltip.js). @param {any} span */
const tell = (span) => {
  const detail = span ? { lines: toldOf(span.dataset.name, known()), box: span.getBoundingClientRect() } : null;
  dispatchEvent(new CustomEvent("value-told", { detail }));
};

document.addEventListener("mousemove", (event) => {
  const el = event.target;
  if (isField(el)) {
    tell(under(el, event.clientX, event.clientY) || (el === document.activeElement ? atCaret(el) : null));
  } else if (!isField(document.activeElement)) tell(null);
});
document.addEventListener("selectionchange", () => {
  if (isField(document.activeElement)) tell(atCaret(document.activeElement));
});
document.addEventListener("focusout", (event) => {
  if (isField(event.target)) tell(null);
});
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") tell(null);
});
document.addEventListener("input", (event) => {
  if (isField(event.target)) paint(event.target);
});
document.addEventListener("toggle", paintAll, true);
addEventListener("resize", paintAll);
document.addEventListener("htmx:before:swap", () => {
  for (const el of all(".token-mirror")) el.remove();
  // htmx would copy it, which the page's policy reports
  for (const el of all('[id][style=""]')) el.removeAttribute("style");
});

const isOurs = (node) => node.classList.contains("token-mirror");
const elements = (changes) =>
  changes.flatMap((change) =>
    [...change.addedNodes]
      .filter((node) => node.nodeType === 1)
      .map((node) => ({ node, isInside: Boolean(change.target.closest(".token-mirror")) })),
  );
const panel = one("#panel");
if (panel) {
  const watch = new MutationObserver((changes) => {
    const added = elements(changes);
    if (!added.some(({ node, isInside }) => !isInside && !isOurs(node))) return;
    // a line beneath a field moves the others, and that is all
    if (!added.every(({ node }) => isOurs(node) || node.classList.contains("comes-to"))) tell(null);
    requestAnimationFrame(paintAll);
  });
  watch.observe(panel, { childList: true, subtree: true });
}
requestAnimationFrame(paintAll);
document.fonts.ready.then(paintAll);
