// A fixed value in a field, or a part of it that is marked, offered to be dealt from a column: in which one it stands
// is looked up.
import { make, one } from "./dom.js";

const FIELDS = /^(query|header|form|part)-value$|^(address|body-text|check-what|check-more)$/;
const SOON_MS = 250;
const LONGEST = 2000;
const panel = one("#panel");
const line = make("span", "", "comes-to by-column");
line.setAttribute("role", "status");
let timer = 0;
let last = "";

const isLeaf = (el) => "leaf" in el.dataset;
const isOurs = (el) =>
  Boolean(el && el.matches && el.matches("#panel input, #panel textarea") && (FIELDS.test(el.name) || isLeaf(el)));

/** The value that could come from a column: what is marked, or a whole value. */
const wanted = (el) => {
  const marked = el.value.slice(el.selectionStart, el.selectionEnd).trim();
  if (marked) return marked;
  return /-value$/.test(el.name) || isLeaf(el) ? el.value.trim() : "";
};

const columnsWith = async (value) => {
  try {
    return (await (await fetch(`${panel.dataset.columns}/near?${new URLSearchParams({ value })}`)).json()).held;
  } catch {
    return []; // the page says so itself when the connection is gone
  }
};

const offer = async (el) => {
  const value = wanted(el);
  if (value.length < 2 || value.includes("{{") || value.length > LONGEST) {
    line.remove();
    last = "";
    return;
  }
  const key = el.name + value;
  if (key === last && line.isConnected && line.previousElementSibling === el) return;
  last = key;
  const held = await columnsWith(value);
  if (last !== key || document.activeElement !== el) return;
  const link = make("a", held.length ? "Put the column there" : "Put a column there");
  const at = one("input[name=at]", panel)?.value || "";
  link.href = `${panel.dataset.columns}?${new URLSearchParams({ value, at })}`;
  const where = held.length ? `stands in ${held[0][0]}, row ${held[0][1].toLocaleString("en")}. ` : "";
  line.replaceChildren(where, link);
  el.after(line);
};

const soon = (el) => {
  clearTimeout(timer);
  timer = window.setTimeout(() => offer(el), SOON_MS);
};

if (panel && panel.dataset.columns) {
  panel.addEventListener("focusin", (event) => {
    if (isOurs(event.target)) soon(event.target);
  });
  document.addEventListener("selectionchange", () => {
    if (isOurs(document.activeElement)) soon(document.activeElement);
  });
}
