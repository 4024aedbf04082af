// What a text with {{ }} comes to, beneath its field, while it is typed: computed by a worker on the last rehearsal's
// values.
"use strict";
(() => {
  const panel = document.getElementById("panel");
  if (!panel || !panel.dataset.evaluate) return;
  const key = document.querySelector("meta[name=form-key]").content,
    waiting = new WeakMap(),
    asked = new WeakMap();
  const line = (field) => {
    let el = field.nextElementSibling;
    if (!el || !el.classList.contains("comes-to")) {
      el = document.createElement("span");
      el.className = "comes-to";
      el.setAttribute("role", "status");
      field.after(el);
    }
    return el;
  };
  const ask = async (field) => {
    const text = field.value;
    if (!text.includes("{{")) {
      const el = field.nextElementSibling;
      if (el && el.classList.contains("comes-to")) el.remove();
      return;
    }
    const number = (asked.get(field) || 0) + 1;
    asked.set(field, number);
    const data = new URLSearchParams({ text, kind: field.dataset.kind || "text" });
    try {
      const answer = await fetch(panel.dataset.evaluate, {
        method: "POST",
        body: data,
        headers: { "X-CSRFToken": key },
      });
      const found = await answer.json();
      if (asked.get(field) !== number) return;
      const el = line(field);
      el.classList.toggle("bad", !!found.problem);
      el.textContent = found.problem ? found.problem.replace(/^'\{\{[^]*?\}\}'(: | )/, "") : "= " + found.value;
      if (found.problem && found.end) {
        // where it is: the text around it, the piece itself marked
        const code = document.createElement("span"),
          mark = document.createElement("mark"),
          from = Math.max(0, found.start - 24);
        code.className = "mono where";
        mark.textContent = text.slice(found.start, found.end) || "…";
        code.append(
          (from ? "…" : "") + text.slice(from, found.start),
          mark,
          text.slice(found.end, found.end + 24) + (text.length > found.end + 24 ? "…" : ""),
        );
        el.prepend(code, " at character " + (found.start + 1) + ": ");
      }
    } catch (_) {
      /* the page says so itself when the connection is gone */
    }
  };
  panel.addEventListener("input", (e) => {
    const el = e.target;
    if (!el.matches("input.code, textarea.code") || el.name.endsWith("-name")) return;
    clearTimeout(waiting.get(el));
    waiting.set(
      el,
      setTimeout(() => ask(el), 350),
    );
  });
  panel.addEventListener("focusin", (e) => {
    const el = e.target;
    if (el.matches("input[data-kind], input[name$=-value], input[name=text]") && el.value.includes("{{")) ask(el);
  });
})();
