// A button that puts an empty copy of the row before it after that row.
import { all, one } from "../dom.js";

export const moreRows = () => ({
  add() {
    const last = this.$root.previousElementSibling;
    const copy = last.cloneNode(true);
    for (const field of all("input, textarea", copy)) field.value = "";
    last.after(copy);
    one("input, select", copy)?.focus();
  },
});
