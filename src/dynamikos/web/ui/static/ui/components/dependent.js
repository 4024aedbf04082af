// Fields that depend on a select of the same form: those whose `data-for` names the chosen value are there.
import { all } from "../dom.js";

export const dependent = () => ({
  init() {
    this.look();
  },
  look() {
    const chosen = this.$refs.kind.value;
    for (const el of all("[data-for]", this.$root)) el.hidden = !el.dataset.for.split(" ").includes(chosen);
  },
});
