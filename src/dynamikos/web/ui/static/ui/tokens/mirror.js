// A mirror behind a field marks the values in its text.
import { all, make } from "../dom.js";
import { hasHole, isUnknown, pieces } from "./holes.js";

const FIELDS = "#panel input.code[type=text], #panel textarea.code";
const SAME = [
  ...["fontFamily", "fontSize", "fontWeight", "fontStyle", "fontStretch", "fontVariationSettings"],
  ...["fontFeatureSettings", "letterSpacing", "lineHeight"],
  ...["paddingTop", "paddingRight", "paddingBottom", "paddingLeft"],
];
/** @type {WeakMap<any, any>} */
const mirrors = new WeakMap();

/** Whether values are marked in a field. @param {any} el */
export const isField = (el) => Boolean(el && el.matches && el.matches(FIELDS));

/** Values known on this page (holes.js). @returns {import("./holes.js").Known} */
export const known = () => {
  const el = document.getElementById("values-known");
  try {
    return el ? JSON.parse(el.dataset.values) : {};
  } catch {
    return {};
  }
};

const place = (el, mirror) => {
  const look = getComputedStyle(el);
  for (const name of SAME) mirror.style[name] = look[name];
  mirror.style.width = `${el.offsetWidth}px`;
  mirror.style.height = `${el.offsetHeight}px`;
  mirror.style.left = `${el.offsetLeft}px`;
  mirror.style.top = `${el.offsetTop}px`;
  mirror.classList.toggle("one-line", el.tagName === "INPUT");
  mirror.scrollTop = el.scrollTop;
  mirror.scrollLeft = el.scrollLeft;
};

const takeAway = (el) => {
  const mirror = mirrors.get(el);
  if (!mirror) return;
  mirror.remove();
  mirrors.delete(el);
  el.classList.remove("has-tokens");
};

const mirrorOf = (el) => {
  const there = mirrors.get(el);
  if (there && there.isConnected) return there;
  const mirror = make("div", "", "token-mirror");
  mirror.setAttribute("aria-hidden", "true");
  el.before(mirror);
  mirrors.set(el, mirror);
  el.classList.add("has-tokens");
  el.onscroll = () => place(el, mirrors.get(el));
  return mirror;
};

/** Marks the values in the text of a field. @param {any} el */
export const paint = (el) => {
  if (!hasHole(el.value)) {
    takeAway(el);
    return;
  }
  const mirror = mirrorOf(el);
  const values = known();
  const parts = pieces(el.value).map((piece) => {
    if (piece.name === undefined) return document.createTextNode(piece.text);
    const span = make("span", piece.text, isUnknown(piece.name, values) ? "unknown" : "");
    span.dataset.name = piece.name;
    span.dataset.hole = piece.text;
    return span;
  });
  mirror.replaceChildren(...parts, document.createTextNode("\u200b"));
  place(el, mirror);
};

export const paintAll = () => all(FIELDS).forEach(paint);

/** The marked value of a field under a point. @param {any} el @param {number} x @param {number} y */
export const under = (el, x, y) => {
  const mirror = mirrors.get(el);
  const covers = (box) => x >= box.left && x <= box.right && y >= box.top && y <= box.bottom;
  return mirror ? all("span", mirror).find((span) => [...span.getClientRects()].some(covers)) : null;
};

/** The marked value of a field in which the caret stands. @param {any} el */
export const atCaret = (el) => {
  const mirror = mirrors.get(el);
  const caret = el.selectionStart;
  let at = 0;
  for (const node of mirror ? mirror.childNodes : []) {
    const end = at + node.textContent.length;
    if (node.nodeType === 1 && caret > at && caret < end) return node;
    at = end;
  }
  return null;
};
