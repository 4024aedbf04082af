// A file that is chosen goes into the text field that its `data-into-text` names, where it can be seen and changed.
import { near, one } from "./dom.js";

document.addEventListener("change", async (event) => {
  const field = near(event, "[data-into-text]");
  if (!field || !field.files.length) return;
  const into = one(`[name="${field.dataset.intoText}"]`, field.form || document);
  into.value = await field.files[0].text();
  field.value = "";
  into.dispatchEvent(new Event("change", { bubbles: true }));
});
