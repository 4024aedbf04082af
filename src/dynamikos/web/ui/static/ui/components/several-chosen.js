// Several steps and requests of the ladder: Ctrl+click adds one, Shift+click all up to it, x adds the one with the
// focus; the panel then acts on all of them.
import { all, near, one } from "../dom.js";

const PLACES = "#ladder[data-edit] a[data-at]";

/** @param {string[]} chosen @param {string} at */
export const withOrWithout = (chosen, at) =>
  chosen.includes(at) ? chosen.filter((each) => each !== at) : [...chosen, at];

/**
 * Those between two places, both included.
 * @param {string[]} order @param {string} from @param {string} to
 */
export const between = (order, from, to) => {
  const end = order.indexOf(to);
  const begin = order.includes(from) ? order.indexOf(from) : end;
  return order.slice(Math.min(begin, end), Math.max(begin, end) + 1);
};

const current = () => one("#ladder a[aria-current]")?.dataset.at;

export const severalChosen = () => ({
  chosen: [],
  init() {
    this.$watch("chosen", () => this.mark());
    document.addEventListener("click", (event) => this.clicked(event), true);
    document.addEventListener("keydown", (event) => this.pressed(event));
    document.addEventListener("htmx:after:swap", () => {
      const there = all(PLACES).map((place) => place.dataset.at);
      this.chosen = this.chosen.filter((at) => there.includes(at));
    });
  },
  mark() {
    for (const place of all(PLACES)) place.classList.toggle("is-chosen", this.chosen.includes(place.dataset.at));
  },
  clicked(event) {
    const place = near(event, PLACES);
    if (!place) return;
    if (!event.ctrlKey && !event.metaKey && !event.shiftKey) {
      this.chosen = [];
      return;
    }
    event.preventDefault();
    event.stopImmediatePropagation();
    if (event.shiftKey) this.upTo(place.dataset.at);
    else this.add(place.dataset.at);
  },
  pressed(event) {
    const place = document.activeElement?.closest(PLACES);
    if (event.key === "x" && place && !event.ctrlKey && !event.metaKey) {
      event.preventDefault();
      this.add(/** @type {any} */ (place).dataset.at);
    }
    if (event.key === "Escape") this.chosen = [];
  },
  add(at) {
    const begun = this.chosen.length || !current() || current() === at ? this.chosen : [current()];
    this.choose(withOrWithout(begun, at));
  },
  upTo(at) {
    const isRequest = at.includes("/");
    const order = all(PLACES)
      .filter((place) => place.dataset.at.includes("/") === isRequest)
      .sort((one, other) => one.getBoundingClientRect().top - other.getBoundingClientRect().top)
      .map((place) => place.dataset.at);
    this.choose(between(order, this.chosen[this.chosen.length - 1] || current() || at, at));
  },
  choose(chosen) {
    this.chosen = chosen;
    const first = all(PLACES).find((place) => place.dataset.at === chosen[0]);
    if (!first) return;
    const address = first.getAttribute("hx-get").split("?")[0];
    const also = chosen.map((at) => `&also=${encodeURIComponent(at)}`).join("");
    const where = { target: "#panel", swap: "innerHTML" };
    window.htmx.ajax("GET", `${address}?at=${encodeURIComponent(chosen[0])}${also}`, where);
  },
});
