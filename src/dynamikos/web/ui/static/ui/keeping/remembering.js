// A text that waits for its button survives a reload, in this tab; secrets never do.
import { all, one } from "../dom.js";

const NEVER = "[type=hidden], [type=password], [type=file], [type=checkbox], [type=radio], [readonly], [data-editor]";
const begin = () => `typed|${location.pathname}|`;

/** What all places of a form begin with. @param {any} form */
const placesOf = (form) => {
  const what = one("[name=what]", form);
  const to = form.getAttribute("hx-post") || form.getAttribute("action") || "";
  return `${begin()}${to}|${what ? what.value : ""}|`;
};

/** Where the text of a field is kept; null for one whose text is not. @param {any} el */
const placeOf = (el) => {
  const { form } = el;
  if (!form || !el.name || form.matches("[role=search], [autocomplete=off]") || el.matches(NEVER)) return null;
  const alike = form.elements.namedItem(el.name);
  const at = alike instanceof RadioNodeList ? [.../** @type {any} */ (alike)].indexOf(el) : 0;
  return `${placesOf(form)}${el.name}|${at}`;
};

const keep = (el) => {
  const at = placeOf(el);
  if (at) sessionStorage.setItem(at, el.value);
};

/** Whether a field has another value than the page came with. @param {any} el */
const isChanged = (el) =>
  el.matches("select")
    ? el.selectedIndex !== Math.max(0, [...el.options].findIndex((option) => option.defaultSelected))
    : el.matches("input, textarea") && el.value !== el.defaultValue;

/** Keeps what was typed into a form, and chosen. @param {any} form */
export const remember = (form) => {
  for (const el of form.elements) if (isChanged(el)) keep(el);
};

/** Whether something of a form was refused, and nothing of it kept since. @param {any} form */
const isRefused = (form) => {
  const begins = placesOf(form);
  return Object.keys(sessionStorage).some((each) => each.startsWith(begins));
};

/** Keeps nothing of a form any more. @param {any} form */
export const forget = (form) => {
  const begins = placesOf(form);
  for (const each of Object.keys(sessionStorage)) if (each.startsWith(begins)) sessionStorage.removeItem(each);
};

const restore = () => {
  if (!Object.keys(sessionStorage).some((each) => each.startsWith(begin()))) return;
  for (const el of all("form [name]")) {
    const at = placeOf(el);
    const text = at ? sessionStorage.getItem(at) : null;
    if (text === null || el.value === text) continue;
    el.value = text;
    // so that it is seen, and what is said of it
    for (let up = el.closest("details"); up; up = up.parentElement.closest("details")) up.open = true;
    el.dispatchEvent(new Event("input", { bubbles: true }));
    if (el.matches("select")) el.dispatchEvent(new Event("change", { bubbles: true }));
  }
};

document.addEventListener("input", (event) => {
  const el = /** @type {any} */ (event.target);
  if (!el.form) return;
  // of a form that saves itself only once it was refused, and then every field: while one is
  // refused, the server keeps none of them
  if (!el.form.matches("[data-saves]") || isRefused(el.form)) keep(el);
});
document.addEventListener(
  "submit",
  (event) => {
    const form = /** @type {any} */ (event.target);
    if (form.matches("[action*='sign-out']"))
      sessionStorage.clear(); // what one person typed is not the next one's
    else if (!form.matches("[data-saves]")) forget(form);
  },
  true,
);
document.addEventListener("DOMContentLoaded", restore);
document.addEventListener("htmx:after:swap", restore);
