// A capture of one's own: writing it chooses it; a click on a group of the match takes that group.
import { near, one } from "./dom.js";

document.addEventListener("input", (event) => {
  const el = near(event, ".own *");
  if (el && el.id !== "own") one("#own").checked = true;
});
document.addEventListener("click", (event) => {
  const button = near(event, "[data-group]");
  if (!button) return;
  const more = one(".own [name=capture-more]");
  const header = more.value.trim().split(/\s+/).slice(1).join(" ");
  more.value = `${button.dataset.group} ${header}`.trim();
  more.dispatchEvent(new Event("input", { bubbles: true }));
});
