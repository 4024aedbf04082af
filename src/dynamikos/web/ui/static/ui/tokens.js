// Values in {{ }} are shown as tokens: marked in the field, and told where they come from and what they were last.
"use strict";
(() => {
  const NAME = /^[A-Za-z_]\w*(\.\w+)?$/;
  const HOLE = /\{\{[^{}]*\}\}/g;
  const field = (el) => el && el.matches && el.matches("#panel input.code[type=text], #panel textarea.code");
  const known = () => {
    const el = document.getElementById("values-known");
    try {
      return el ? JSON.parse(el.dataset.values) : {};
    } catch {
      return {};
    }
  };
  const says = document.createElement("div");
  says.id = "token-says";
  says.hidden = true;
  says.setAttribute("role", "status");
  document.body.append(says);
  const mirrors = new WeakMap();

  const paint = (el) => {
    let mirror = mirrors.get(el);
    if (!HOLE.test(el.value)) {
      HOLE.lastIndex = 0;
      if (mirror) {
        mirror.remove();
        mirrors.delete(el);
        el.classList.remove("has-tokens");
      }
      return;
    }
    HOLE.lastIndex = 0;
    if (!mirror || !mirror.isConnected) {
      mirror = document.createElement("div");
      mirror.className = "token-mirror";
      mirror.setAttribute("aria-hidden", "true");
      el.before(mirror);
      mirrors.set(el, mirror);
      el.classList.add("has-tokens");
      el.onscroll = () => place(el, mirrors.get(el));
    }
    const values = known(),
      parts = [];
    let from = 0;
    for (const hole of el.value.matchAll(HOLE)) {
      parts.push(document.createTextNode(el.value.slice(from, hole.index)));
      const span = document.createElement("span"),
        name = hole[0].slice(2, -2).split("|")[0].trim();
      span.textContent = hole[0];
      span.dataset.name = name;
      span.dataset.hole = hole[0];
      if (NAME.test(name) && !(name in values) && !name.startsWith("make.")) span.className = "unknown";
      parts.push(span);
      from = hole.index + hole[0].length;
    }
    parts.push(document.createTextNode(el.value.slice(from) + "\u200b"));
    mirror.replaceChildren(...parts);
    place(el, mirror);
  };
  const place = (el, mirror) => {
    const look = getComputedStyle(el);
    for (const name of [
      "fontFamily",
      "fontSize",
      "fontWeight",
      "fontStyle",
      "fontStretch",
      "fontVariationSettings",
      "fontFeatureSettings",
      "letterSpacing",
      "lineHeight",
      "paddingTop",
      "paddingRight",
      "paddingBottom",
      "paddingLeft",
    ])
      mirror.style[name] = look[name];
    mirror.style.width = el.offsetWidth + "px";
    mirror.style.height = el.offsetHeight + "px";
    mirror.style.left = el.offsetLeft + "px";
    mirror.style.top = el.offsetTop + "px";
    mirror.classList.toggle("one-line", el.tagName === "INPUT");
    mirror.scrollTop = el.scrollTop;
    mirror.scrollLeft = el.scrollLeft;
  };
  const paintAll = () => document.querySelectorAll("#panel input.code[type=text], #panel textarea.code").forEach(paint);
  const tell = (span) => {
    if (!span) {
      says.hidden = true;
      return;
    }
    const name = span.dataset.name,
      value = known()[name];
    const where = !NAME.test(name)
      ? "an expression: what it comes to stands beneath the field while you type"
      : name.startsWith("make.")
        ? "made anew each time it is sent"
        : value
          ? value.from
          : "nothing of this name has a value before this request";
    const last =
      value && value.last !== undefined
        ? "last: " + (value.last.length > 120 ? value.last.slice(0, 119) + "…" : value.last)
        : name.startsWith("make.") || !NAME.test(name)
          ? ""
          : value
            ? "no rehearsal has shown its value yet"
            : "";
    says.replaceChildren(
      ...[name, where, last].filter(Boolean).map((text, i) => {
        const p = document.createElement(i ? "span" : "b");
        p.textContent = text;
        return p;
      }),
    );
    const box = span.getBoundingClientRect();
    says.hidden = false;
    says.style.left = Math.max(8, Math.min(box.left, innerWidth - says.offsetWidth - 8)) + "px";
    says.style.top =
      (box.bottom + says.offsetHeight + 8 < innerHeight ? box.bottom + 4 : box.top - says.offsetHeight - 4) + "px";
  };
  const under = (el, x, y) => {
    const mirror = mirrors.get(el);
    return (
      mirror &&
      [...mirror.querySelectorAll("span")].find((span) =>
        [...span.getClientRects()].some((r) => x >= r.left && x <= r.right && y >= r.top && y <= r.bottom),
      )
    );
  };
  const atCaret = (el) => {
    const mirror = mirrors.get(el);
    if (!mirror) return null;
    let at = 0;
    const caret = el.selectionStart;
    for (const node of mirror.childNodes) {
      const end = at + node.textContent.length;
      if (node.nodeType === 1 && caret > at && caret < end) return node;
      at = end;
    }
    return null;
  };
  document.addEventListener("mousemove", (e) => {
    if (field(e.target))
      tell(under(e.target, e.clientX, e.clientY) || (e.target === document.activeElement ? atCaret(e.target) : null));
    else if (!says.hidden && !field(document.activeElement)) tell(null);
  });
  document.addEventListener("selectionchange", () => {
    if (field(document.activeElement)) tell(atCaret(document.activeElement));
  });
  document.addEventListener("focusout", (e) => {
    if (field(e.target)) tell(null);
  });
  document.addEventListener("keydown", (e) => {
    if (e.key === "Escape") tell(null);
  });
  document.addEventListener("input", (e) => {
    if (field(e.target)) paint(e.target);
  });
  document.addEventListener("toggle", paintAll, true);
  addEventListener("resize", paintAll);
  document.addEventListener("htmx:before:swap", () => {
    document.querySelectorAll(".token-mirror").forEach((el) => el.remove());
    // htmx would copy it, which the page's policy reports
    document.querySelectorAll('[id][style=""]').forEach((el) => el.removeAttribute("style"));
  });
  const panel = document.getElementById("panel");
  if (panel)
    new MutationObserver((changes) => {
      if (
        changes.some(
          (c) =>
            !c.target.closest(".token-mirror") &&
            [...c.addedNodes].some((n) => n.nodeType === 1 && !n.classList.contains("token-mirror")),
        )
      ) {
        const only = changes.every((c) =>
          [...c.addedNodes].every(
            (n) => n.nodeType !== 1 || n.classList.contains("comes-to") || n.classList.contains("token-mirror"),
          ),
        );
        if (!only) tell(null); // a line beneath a field moves the others, and that is all
        requestAnimationFrame(paintAll);
      }
    }).observe(panel, { childList: true, subtree: true });
  requestAnimationFrame(paintAll);
  document.fonts && document.fonts.ready.then(paintAll);
})();
