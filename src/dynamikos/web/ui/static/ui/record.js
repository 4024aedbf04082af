// Naming a stretch of a recording by dragging over the time strip.
"use strict";
(() => {
  const form = document.getElementById("naming");
  if (!form) return;
  let from = null,
    to = null;
  const at = (svg, e) => {
    const box = svg.getBoundingClientRect(),
      share = Math.min(1, Math.max(0, (e.clientX - box.left) / box.width));
    return {
      x: share * svg.viewBox.baseVal.width,
      us: Math.round(Number(svg.dataset.from) + share * (Number(svg.dataset.to) - Number(svg.dataset.from))),
    };
  };
  const show = () => {
    const chosen = document.getElementById("chosen"),
      range = document.getElementById("range");
    if (!chosen) return;
    const wide = from && to ? Math.abs(to.x - from.x) : 0;
    chosen.setAttribute("x", wide ? Math.min(from.x, to.x) : 0);
    chosen.setAttribute("width", wide);
    form.elements.from.value = wide ? Math.min(from.us, to.us) : "";
    form.elements.to.value = wide ? Math.max(from.us, to.us) : "";
    range.textContent = wide ? "in the chosen " + (Math.abs(to.us - from.us) / 1e6).toFixed(1) + " s" : "from now on";
  };
  document.addEventListener("pointerdown", (e) => {
    const svg = e.target.closest && e.target.closest("#strip");
    if (!svg || svg.dataset.from === "0") return;
    from = at(svg, e);
    to = from;
    e.preventDefault();
    show();
  });
  document.addEventListener("pointermove", (e) => {
    const svg = document.getElementById("strip");
    if (!from || !(e.buttons & 1) || !svg) return;
    to = at(svg, e);
    show();
  });
  document.addEventListener("pointerup", (e) => {
    if (!from || !e.target.closest || !e.target.closest("#strip")) return;
    if (!to || Math.abs(to.x - from.x) < 3) {
      from = null;
      to = null;
    }
    show();
    if (from) form.elements.name.focus();
  });
  document.addEventListener("htmx:after:swap", show);
})();
