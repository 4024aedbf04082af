// What came too late, because somebody had changed the same meanwhile, can be read again after a reload.
import { all, make, one } from "../dom.js";

const place = () => `late|${location.pathname}`;

/** Keeps what the page shows as refused. */
export const keepRefused = () => {
  const texts = all("[data-refused] pre").map((el) => el.textContent.trim());
  if (texts.length) sessionStorage.setItem(place(), texts.join("\n"));
};

document.addEventListener("DOMContentLoaded", () => {
  const text = sessionStorage.getItem(place());
  const into = one("#panel-says, #plan-says");
  if (text === null || !into) return;
  const box = make("div", "", "notification is-danger");
  const done = make("button", "I don't need it any more", "button is-small");
  done.type = "button";
  done.addEventListener("click", () => {
    sessionStorage.removeItem(place());
    box.remove();
  });
  const says = "You typed this before the page was loaded again. It is not in what you see here:";
  box.append(make("p", says), make("pre", text), done);
  into.before(box);
});
