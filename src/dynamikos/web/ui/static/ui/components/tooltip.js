// What is told of the value under the pointer or the caret: tokens.js says what and where.
/** @typedef {{lines: string[], box: DOMRect}} Told */

export const tooltip = () => ({
  lines: [],
  init() {
    addEventListener("value-told", (event) => this.show(/** @type {CustomEvent<Told | null>} */ (event).detail));
  },
  get isHidden() {
    return !this.lines.length;
  },
  get name() {
    return this.lines[0] || "";
  },
  get about() {
    return this.lines.slice(1);
  },
  /** @param {Told | null} told */
  show(told) {
    this.lines = told ? told.lines : [];
    if (told) this.$nextTick(() => this.place(told.box));
  },
  /** Below what it is about, or above where there is no room. @param {DOMRect} box */
  place(box) {
    const el = this.$root;
    const isRoom = box.bottom + el.offsetHeight + 8 < innerHeight;
    el.style.left = `${Math.max(8, Math.min(box.left, innerWidth - el.offsetWidth - 8))}px`;
    el.style.top = `${isRoom ? box.bottom + 4 : box.top - el.offsetHeight - 4}px`;
  },
});
