// Rows of the panel: an empty one more when the last is used; a file for a part of a body; the leaves of a JSON body.
import { all, near, one } from "../dom.js";

document.addEventListener("input", (event) => {
  const rows = near(event, "[data-rows]");
  if (!rows) return;
  const last = rows.lastElementChild;
  if (!all("input:not([type=hidden])", last).some((field) => field.value)) return;
  const copy = last.cloneNode(true);
  for (const field of all("input", copy)) field.value = "";
  rows.append(copy);
});

/** A file goes with the journey: read here, sent as base64. @param {any} field */
const takeFile = (field) => {
  const file = field.files[0];
  const rule = field.closest(".rule");
  const part = (name) => one(`[name=part-${name}]`, rule);
  const reader = new FileReader();
  reader.onload = () => {
    const whole = String(reader.result);
    part("content").value = whole.slice(whole.indexOf(",") + 1);
    part("type").value = part("type").value || file.type;
    if (part("file")) {
      // a part of a form, not the whole body
      part("file").value = file.name;
      part("name").value = part("name").value || "file";
    }
    field.value = "";
    part("content").setAttribute("data-reload", "");
    part("content").dispatchEvent(new Event("change", { bubbles: true }));
  };
  reader.readAsDataURL(file);
};
document.addEventListener(
  "change",
  (event) => {
    const field = near(event, "[data-into-part]");
    if (field && field.files.length) takeFile(field);
  },
  true,
);

// of the values of a JSON body only those that were changed are sent
document.addEventListener("input", (event) => {
  const leaf = near(event, "[data-leaf]");
  if (!leaf) return;
  leaf.name = "leaf-value";
  one("[name=leaf-path]", leaf.closest("tr")).disabled = false;
});
