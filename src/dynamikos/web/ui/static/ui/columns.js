// A fixed value in a field, or a part of it that is marked, offered to be dealt from a column: in which one it stands
// is looked up.
"use strict";
(() => {
  const panel = document.getElementById("panel");
  if (!panel || !panel.dataset.columns) return;
  const FIELDS = /^(query|header|form|part)-value$|^(address|body-text|check-what|check-more)$/;
  const line = document.createElement("span");
  line.className = "comes-to by-column";
  line.setAttribute("role", "status");
  let timer,
    last = "";
  const wanted = (el) => {
    const marked =
      el.selectionStart !== el.selectionEnd ? el.value.slice(el.selectionStart, el.selectionEnd).trim() : "";
    if (marked) return marked;
    return /-value$/.test(el.name) || "leaf" in el.dataset ? el.value.trim() : "";
  };
  const offer = async (el) => {
    const value = wanted(el);
    if (value.length < 2 || value.includes("{{") || value.length > 2000) {
      line.remove();
      last = "";
      return;
    }
    const key = el.name + value;
    if (key === last && line.isConnected && line.previousElementSibling === el) return;
    last = key;
    const at = (panel.querySelector("input[name=at]") || { value: "" }).value;
    const link = document.createElement("a");
    link.href = panel.dataset.columns + "?" + new URLSearchParams({ value, at });
    let held = [];
    try {
      held = (await (await fetch(panel.dataset.columns + "/near?" + new URLSearchParams({ value }))).json()).held;
    } catch (_) {
      /* the page says so itself when the connection is gone */
    }
    if (last !== key || document.activeElement !== el) return;
    link.textContent = held.length ? "Put the column there" : "Put a column there";
    line.replaceChildren(
      held.length ? "stands in " + held[0][0] + ", row " + held[0][1].toLocaleString("en") + ". " : "",
      link,
    );
    el.after(line);
  };
  const soon = (el) => {
    clearTimeout(timer);
    timer = setTimeout(() => offer(el), 250);
  };
  const mine = (el) =>
    el && el.matches && el.matches("#panel input, #panel textarea") && (FIELDS.test(el.name) || "leaf" in el.dataset);
  panel.addEventListener("focusin", (e) => {
    if (mine(e.target)) soon(e.target);
  });
  document.addEventListener("selectionchange", () => {
    if (mine(document.activeElement)) soon(document.activeElement);
  });
})();
