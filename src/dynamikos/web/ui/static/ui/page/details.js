// Rows that are opened beneath a line of a table, and shut again.
import { all } from "../dom.js";

document.addEventListener("click", (event) => {
  const shuts = /** @type {HTMLElement} */ (event.target).closest?.("[data-shuts]");
  const shut = shuts instanceof HTMLElement ? shuts.closest(shuts.dataset.shuts) : null;
  if (!(shut instanceof HTMLElement)) return;
  shut.dataset.shut = "1";
  shut.remove();
});
document.addEventListener("htmx:after:swap", () => {
  // what was opened once more takes the place of what was open of it
  for (const row of all("tr.closer")) {
    const next = row.nextElementSibling;
    if (next?.classList.contains("closer") && next.dataset.of === row.dataset.of) next.remove();
  }
});
