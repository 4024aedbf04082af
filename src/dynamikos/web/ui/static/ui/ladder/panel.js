// The panel as a whole: what it sends knows the newest revision; another kind of body or proof makes it anew.
import { all, one } from "../dom.js";

document.addEventListener("submit", (event) => {
  const parent = one("[data-parent]", /** @type {any} */ (event.target));
  if (parent) parent.value = one("#parent").value;
});

// a value marked in a recorded body goes into the field beneath it
document.addEventListener("selectionchange", () => {
  const chosen = document.getSelection();
  const node = chosen && chosen.anchorNode;
  const element = node && (node.nodeType === 1 ? /** @type {Element} */ (node) : node.parentElement);
  const pre = element && element.closest("pre[data-marking]");
  const text = pre ? chosen.toString().trim() : "";
  const field = text && text.length < 2000 ? one("[data-marked]", pre.parentElement) : null;
  if (field) field.value = text;
});

const named = (name) => all("#panel [name]").filter((el) => el.name === name);

/** What has the focus, and which details are open; a function that brings both back in the panel made anew. */
const remembered = () => {
  const open = new Set(all("#panel details[open] > summary").map((el) => el.textContent));
  let name = "";
  let at = 0;
  setTimeout(() => {
    const now = /** @type {any} */ (document.activeElement);
    name = (now && now.name) || "";
    at = named(name).indexOf(now);
  }, 0);
  return () => {
    for (const el of all("#panel details > summary")) if (open.has(el.textContent)) el.parentElement.open = true;
    const same = name && named(name)[at];
    if (same) same.focus();
  };
};

document.addEventListener(
  "change",
  (event) => {
    const el = /** @type {any} */ (event.target);
    if (!el.matches("[data-reload]")) return;
    const field = document.createElement("input");
    Object.assign(field, { type: "hidden", name: "reload", value: "1" });
    el.form.append(field);
    const bringBack = remembered();
    const watch = new MutationObserver(() => {
      if (one("#panel [name=reload]")) return;
      watch.disconnect();
      bringBack();
    });
    watch.observe(one("#panel"), { childList: true });
  },
  true,
);
