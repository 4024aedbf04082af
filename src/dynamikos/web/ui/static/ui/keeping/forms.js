// Forms that save themselves (`data-saves`): what was sent of each, and which hold something that was not.

const SOON_MS = 350;
export const AGAIN_MS = 3000; // between two tries, until it is kept

/** @type {WeakMap<HTMLFormElement, {timer: number, sent: string}>} */
const states = new WeakMap();
/** @type {Set<HTMLFormElement>} forms in which something was typed that is not known to be kept */
export const dirty = new Set();

export const tab = Math.random().toString(36).slice(2, 12);
document.documentElement.dataset.tab = tab;

const told = (value) => (value instanceof File ? `${value.name}/${value.size}` : value);

/** What a form holds, to compare. @param {HTMLFormElement} form */
export const serial = (form) => JSON.stringify([...new FormData(form)].map(([name, value]) => [name, told(value)]));

export const isKnown = (form) => states.has(form);
export const isSent = (form) => serial(form) === states.get(form).sent;

/** Sends a form now, if it holds something else than what was sent last. @param {HTMLFormElement} form */
export const save = (form) => {
  const state = states.get(form);
  if (!state) return;
  clearTimeout(state.timer);
  const now = serial(form);
  if (now === state.sent || !form.isConnected) return;
  state.sent = now;
  window.htmx.trigger(form, "save");
};

/** @param {HTMLFormElement} form @param {number} pause ms */
const saveIn = (form, pause) => {
  const state = states.get(form);
  clearTimeout(state.timer);
  state.timer = window.setTimeout(() => save(form), pause);
};

/** Once more in a while, whatever was sent. @param {HTMLFormElement} form */
export const saveAgain = (form) => {
  states.get(form).sent = "";
  saveIn(form, AGAIN_MS);
};

export const flush = () => dirty.forEach(save);

/** @param {number} pause ms */
const touched = (pause) => (/** @type {any} */ event) => {
  const form = event.target.form || (event.target.closest && event.target.closest("form"));
  if (!form || !form.matches("[data-saves]")) return;
  if (!states.has(form)) states.set(form, { timer: 0, sent: "" });
  dirty.add(form);
  saveIn(form, pause);
};
document.addEventListener("input", touched(SOON_MS));
document.addEventListener("change", touched(0));
