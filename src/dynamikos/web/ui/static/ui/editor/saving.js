// What is typed into the editor is kept soon; what the server says of it is shown.
import { one } from "../dom.js";

const SOON_MS = 600;
const AGAIN_MS = 2000;
const LOOKS = { error: "bad", saved: "good" };

/** Keeps the text of an area: `typed` when it changed, `save` at once. */
export class Saving {
  /** @param {any} area @param {(problems: any[]) => void} show marks what is wrong */
  constructor(area, show) {
    this.area = area;
    this.show = show;
    this.last = area.value;
    this.timer = 0;
    this.asked = 0;
    this.isWaiting = false;
    this.says = one("#editor-says");
    this.token = one("[name=parent]", area.form);
  }

  get isUnsaved() {
    return Boolean(this.timer || this.isWaiting);
  }

  typed() {
    this.in(SOON_MS);
    this.tell("…", "");
  }

  in(pause) {
    clearTimeout(this.timer);
    this.timer = window.setTimeout(() => this.save(), pause);
  }

  tell(words, kind) {
    this.says.textContent = words;
    this.says.className = `small ${LOOKS[kind] || "faded"}`;
  }

  async save() {
    clearTimeout(this.timer);
    this.timer = 0;
    const text = this.area.value;
    if (this.isWaiting) this.in(100);
    if (text === this.last || this.isWaiting) return;
    this.isWaiting = true;
    const mine = ++this.asked;
    try {
      this.took(text, await this.send(text), mine);
    } catch {
      this.tell("Dynamikos can't be reached; the text stays here and is sent again.", "error");
      this.in(AGAIN_MS);
    } finally {
      this.isWaiting = false;
    }
  }

  async send(text) {
    const body = new URLSearchParams(/** @type {any} */ (new FormData(this.area.form)));
    body.set(this.area.name, text);
    const headers = { Accept: "application/json", "X-Tab": document.documentElement.dataset.tab || "" };
    const answer = await fetch(this.area.form.action || location.href, { method: "POST", body, headers });
    return answer.json();
  }

  /** @param {string} text @param {any} told @param {number} mine */
  took(text, told, mine) {
    this.last = text;
    if (told.token) this.token.value = told.token;
    const both = one("[data-newest]");
    if (both) {
      both.hidden = !told.newest;
      if (told.newest) {
        one("[data-theirs]", both).textContent = told.newest;
        one("[name=over]", both).value = told.head;
      }
    }
    this.area.dispatchEvent(new CustomEvent("kept", { detail: told }));
    if (mine !== this.asked) return;
    this.show(told.problems);
    this.tell(told.says, told.kind);
  }
}
