// What every script of the pages needs of the document.

/** @param {string} selector @param {ParentNode} [root] @returns {any} the first such element, or null */
export const one = (selector, root = document) => root.querySelector(selector);

/** @param {string} selector @param {ParentNode} [root] @returns {any[]} all such elements, in order */
export const all = (selector, root = document) => [...root.querySelectorAll(selector)];

/**
 * A new element with a text and classes.
 * @param {string} tag @param {string} [text] @param {string} [look] @returns {any}
 */
export const make = (tag, text = "", look = "") => {
  const made = document.createElement(tag);
  made.textContent = text;
  if (look) made.className = look;
  return made;
};

/** @returns {string} the key that proves that a change comes from this page */
export const formKey = () => one("meta[name=form-key]")?.content || "";

/**
 * The element an event is about, or the nearest around it that fits; null when there is none.
 * @param {Event} event @param {string} selector @returns {any}
 */
export const near = (event, selector) => {
  const target = /** @type {any} */ (event.target);
  return target && target.closest ? target.closest(selector) : null;
};

/**
 * Whether letters are typed into a field just now, also one in a shadow root.
 * @param {Event} event
 */
export const isTyping = (event) => {
  const el = /** @type {any} */ (event.composedPath()[0] || event.target);
  // nobody types into a box that is ticked: keys go on there
  const takesLetters = /^(INPUT|TEXTAREA|SELECT)$/.test(el.tagName) && el.type !== "checkbox";
  return takesLetters || el.isContentEditable;
};

/**
 * A change sent to the server by a script; what it answers as JSON, or a problem.
 * @param {string} address @param {Record<string, string>} values @param {RequestInit} [more]
 * @returns {Promise<{ok: boolean, found: any}>}
 */
export const send = async (address, values, more = {}) => {
  const body = new URLSearchParams(values);
  const answer = await fetch(address, { method: "POST", body, headers: { "X-CSRFToken": formKey() }, ...more });
  const found = await answer.json().catch(() => ({ problem: `The server answered ${answer.status}.` }));
  return { ok: answer.ok, found };
};
