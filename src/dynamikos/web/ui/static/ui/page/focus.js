// A form that the server answers by a new one keeps the focus where it was: on the control of the same name.
import { all } from "../dom.js";

/** @param {any} form */
const asks = (form) => form.getAttribute("hx-get") || form.getAttribute("hx-post") || "";
/** What a form is about. @param {any} form */
const about = (form) =>
  JSON.stringify([...form.elements].filter((el) => el.type === "hidden").map((el) => [el.name, el.value]));
/** @param {any} form @param {string} name @returns {any[]} */
const controls = (form, name) => [...form.elements].filter((el) => el.name === name);

let held = null;
document.addEventListener("htmx:before:swap", () => {
  const now = /** @type {any} */ (document.activeElement);
  held = null;
  if (now?.form && now.name && asks(now.form)) {
    const at = controls(now.form, now.name).indexOf(now);
    held = { control: now, asks: asks(now.form), about: about(now.form), name: now.name, at };
  }
});
document.addEventListener("htmx:after:swap", () => {
  if (!held || held.control.isConnected || document.activeElement !== document.body) return;
  const forms = all("form").filter((each) => asks(each) === held.asks);
  const form = forms.find((each) => about(each) === held.about) || forms[0];
  if (form) controls(form, held.name)[held.at]?.focus({ preventScroll: true });
});
