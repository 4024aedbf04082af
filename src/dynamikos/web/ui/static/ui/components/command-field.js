// The command field: everything of the page that has a name, found by words, chosen by arrows and Enter.
import { all } from "../dom.js";

/** @returns {{name: string, el: HTMLElement}[]} */
const entries = () => [
  ...all("[data-command]")
    .filter((el) => !el.closest("dialog"))
    .map((el) => ({ name: el.dataset.command || el.textContent.trim(), el })),
  ...all(".spine a.place").map((el) => ({ name: `Go to ${el.dataset.name}`, el })),
];

export const commandField = () => ({
  words: "",
  at: 0,
  every: [],
  init() {
    addEventListener("command-field", () => this.open());
  },
  open() {
    Object.assign(this, { words: "", at: 0, every: entries() });
    this.$root.showModal();
    this.$refs.words.focus();
  },
  get found() {
    const wanted = this.words.toLowerCase().split(/\s+/).filter(Boolean);
    const names = this.every.map((entry, number) => ({ name: entry.name, number }));
    const found = names.filter(({ name }) => wanted.every((word) => name.toLowerCase().includes(word)));
    return found.map((entry, place) => ({ ...entry, place, look: place === this.at ? "is-here" : "" }));
  },
  get isNothing() {
    return !this.found.length;
  },
  begin() {
    this.at = 0;
  },
  next() {
    this.at = Math.min(this.found.length - 1, this.at + 1);
  },
  previous() {
    this.at = Math.max(0, this.at - 1);
  },
  choose() {
    if (this.found[this.at]) this.take(this.found[this.at].number);
  },
  pick(event) {
    this.take(Number(event.currentTarget.dataset.number));
  },
  take(number) {
    const { el } = window.Alpine.raw(this.every)[number];
    this.$root.close();
    el.focus();
    el.click();
  },
});
