// Marks the selected rung or step, keeps the address in step, and offers a new row when the last one is used.
"use strict";
document.addEventListener("click", (e) => {
  const a = e.target.closest("#ladder a[data-at]"); if (!a) return;
  document.querySelectorAll("#ladder a[aria-current]").forEach((el) => el.removeAttribute("aria-current"));
  a.setAttribute("aria-current", "true");
  history.replaceState(null, "", "?at=" + encodeURIComponent(a.dataset.at));
});
document.addEventListener("input", (e) => {
  const rows = e.target.closest("[data-rows]"); if (!rows) return;
  const last = rows.lastElementChild;
  if (![...last.querySelectorAll("input:not([type=hidden])")].some((i) => i.value)) return;
  const copy = last.cloneNode(true);
  copy.querySelectorAll("input").forEach((i) => { i.value = ""; });
  rows.append(copy);
});
document.addEventListener("change", (e) => { // another kind of body has other fields
  if (!e.target.matches("[data-reload]")) return;
  setTimeout(() => { const a = document.querySelector("#ladder a[aria-current]"); if (a) a.click(); }, 400);
});

// Reordering by drag: drop a step on the step it shall come before, a request on the request, or on a step to become its last.
(() => {
  let drag = null, dropped = false;
  const over = (e) => { const el = document.elementFromPoint(e.clientX, e.clientY); const a = el && el.closest("#ladder a[data-at]"); return a && drag && a !== drag.el && (drag.el.dataset.at.includes("/") || !a.dataset.at.includes("/")) ? a : null; };
  const clear = () => document.querySelectorAll("#ladder .is-target, #ladder .is-dragged").forEach((el) => el.classList.remove("is-target", "is-dragged"));
  document.addEventListener("dragstart", (e) => { if (e.target.closest && e.target.closest("#ladder")) e.preventDefault(); });
  document.addEventListener("pointerdown", (e) => {
    const a = e.button === 0 && e.target.closest && e.target.closest("#ladder[data-edit] a[data-at]");
    drag = a ? { el: a, x: e.clientX, y: e.clientY, moved: false } : null;
  });
  document.addEventListener("pointermove", (e) => {
    if (!drag || !(e.buttons & 1)) return;
    if (!drag.moved && Math.hypot(e.clientX - drag.x, e.clientY - drag.y) < 8) return;
    drag.moved = true; clear(); drag.el.classList.add("is-dragged");
    const to = over(e); if (to) to.classList.add("is-target");
  });
  document.addEventListener("pointerup", (e) => {
    if (!drag) return;
    const to = drag.moved ? over(e) : null, at = drag.el.dataset.at, ladder = document.getElementById("ladder");
    dropped = drag.moved; drag = null; clear();
    if (to) htmx.ajax("POST", ladder.dataset.edit, { target: "#panel", swap: "innerHTML", values: { at, what: "place", before: to.dataset.at, parent: document.getElementById("parent").value } });
    setTimeout(() => { dropped = false; }, 0);
  });
  document.addEventListener("click", (e) => { if (dropped && e.target.closest("#ladder")) { e.preventDefault(); e.stopImmediatePropagation(); } }, true);
  document.addEventListener("keydown", (e) => { if (e.key === "Escape" && drag) { drag = null; clear(); } });
})();
