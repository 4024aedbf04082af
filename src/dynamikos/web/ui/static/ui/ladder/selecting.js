// Marks the selected rung or step, keeps the address in step; from there one Tab leads into its panel.
import { all, near, one } from "../dom.js";

document.addEventListener("click", (event) => {
  const place = near(event, "#ladder a[data-at]");
  if (!place) return;
  for (const el of all("#ladder a[aria-current]")) el.removeAttribute("aria-current");
  place.setAttribute("aria-current", "true");
  history.replaceState(null, "", `?at=${encodeURIComponent(place.dataset.at)}`);
});

// Esc in the panel comes back (page/keys.js)
let opened = null;
document.addEventListener(
  "click",
  (event) => {
    opened = near(event, "#ladder a[data-at]") || (near(event, "#panel") ? opened : null);
  },
  true,
);

const FIELDS = "input, textarea, select, a[href], button";
const canFocus = (el) => el.type !== "hidden" && !el.disabled && el.getClientRects().length > 0;

document.addEventListener("keydown", (event) => {
  if (event.key !== "Tab" || event.shiftKey || !opened || !opened.isConnected) return;
  const now = document.activeElement;
  if (now !== document.body && now !== opened) return;
  const first = all(FIELDS, one("#panel")).find(canFocus);
  if (!first) return;
  event.preventDefault();
  first.focus();
});
