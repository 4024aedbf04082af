// The `{{ … }}` of a text, and what is told of a value.

const NAME = /^[A-Za-z_]\w*(\.\w+)?$/;
const HOLE = /\{\{[^{}]*\}\}/g;
const LONGEST = 120; // characters of a last value that are shown

/** @typedef {Record<string, {from: string, last?: string}>} Known values by name: where from, and what it was last */

/**
 * A text in pieces: what stands between holes, and holes with the name in front of their filters.
 * @param {string} text @returns {{text: string, name?: string}[]}
 */
export const pieces = (text) => {
  const made = [];
  let from = 0;
  for (const hole of text.matchAll(HOLE)) {
    made.push({ text: text.slice(from, hole.index) });
    made.push({ text: hole[0], name: hole[0].slice(2, -2).split("|")[0].trim() });
    from = hole.index + hole[0].length;
  }
  return [...made, { text: text.slice(from) }];
};

/** @param {string} text */
export const hasHole = (text) => text.search(HOLE) >= 0;

/** Whether nothing gives a value of this name. @param {string} name @param {Known} known */
export const isUnknown = (name, known) => NAME.test(name) && !(name in known) && !name.startsWith("make.");

/**
 * What is told of a value: its name, where it comes from, what it was last.
 * @param {string} name @param {Known} known @returns {string[]}
 */
export const toldOf = (name, known) => {
  if (!NAME.test(name)) return [name, "an expression: what it comes to stands beneath the field while you type"];
  if (name.startsWith("make.")) return [name, "made anew each time it is sent"];
  const value = known[name];
  if (!value) return [name, "nothing of this name has a value before this request"];
  if (value.last === undefined) return [name, value.from, "no rehearsal has shown its value yet"];
  const last = value.last.length > LONGEST ? `${value.last.slice(0, LONGEST - 1)}…` : value.last;
  return [name, value.from, `last: ${last}`];
};
