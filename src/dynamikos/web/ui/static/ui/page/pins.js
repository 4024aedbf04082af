// What is seen goes into the casebook: by the small button beside it, or by “p” where the focus or the pointer is.
import { all, isTyping, make, near, one, send } from "../dom.js";

const SHOWN_MS = 8000;
let over = null;
let timer = 0;

const say = (...parts) => {
  const box = one("#pinned") || document.body.appendChild(make("div", "", "pinned"));
  box.id = "pinned";
  box.setAttribute("role", "status");
  box.replaceChildren(...parts);
  clearTimeout(timer);
  timer = window.setTimeout(() => box.replaceChildren(), SHOWN_MS);
};

/** @param {HTMLElement} button */
const pin = async (button) => {
  const project = location.pathname.split("/").slice(0, 3).join("/");
  const of = new URLSearchParams(button.dataset.pin);
  const tape = /** @type {HTMLElement | null} */ (button.closest("#tape"));
  if (tape) {
    of.set("from", tape.dataset.from);
    of.set("to", tape.dataset.to);
  }
  const values = { what: button.dataset.what, title: button.dataset.title, of: of.toString() };
  const { ok, found } = await send(`${project}/casebook/pin`, values);
  if (!ok || !found.address) {
    say(make("span", found.problem, "bad"));
    return;
  }
  const link = make("a", found.name);
  link.href = found.address;
  say("Pinned to ", link);
  button.classList.add("is-pinned");
};

/** The button nearest to what is looked at. @param {Element | null} from */
const buttonNear = (from) => {
  for (let el = from; el && el !== document.body; el = el.parentElement) {
    const found = el.matches("[data-pin]") ? el : one("[data-pin]", el);
    if (found) return found;
  }
  return null;
};

document.addEventListener("pointerover", (event) => (over = event.target));
document.addEventListener("click", (event) => {
  const button = near(event, "[data-pin]");
  if (button) pin(button);
});
document.addEventListener("keydown", (event) => {
  if (event.key !== "p" || isTyping(event) || event.ctrlKey || event.altKey || event.metaKey) return;
  if (one("dialog[open]") || !all("[data-pin]").length) return;
  const focused = document.activeElement === document.body ? null : document.activeElement;
  const button = buttonNear(focused) || buttonNear(over);
  if (!button) {
    say(make("span", "Nothing to pin here: point at it, or go to it with Tab, then press p."));
    return;
  }
  event.preventDefault();
  pin(button);
});
