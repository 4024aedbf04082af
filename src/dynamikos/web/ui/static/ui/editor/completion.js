// What may stand at a place of a text form: keys and values, by the schema and the lines above it.

const MAKERS = [
  ...["make.uuid", "make.milliseconds", "make.seconds", "make.number(1, 600)", "make.text(20)"],
  "make.date(%d.%m.%Y, 1)",
];
const METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"];

/** @typedef {Record<string, any>} Node a node of a JSON Schema */
/** @typedef {{from: number, options: any[], validFor: RegExp}} Offer */

/**
 * The nodes of a schema that a path of keys leads to.
 * @param {Node} schema
 */
export const schemaWalk = (schema) => {
  const deref = (node) => {
    let found = node;
    while (found && found.$ref) found = schema.$defs[found.$ref.split("/").pop()];
    return found;
  };
  const choices = (given) => {
    const node = deref(given);
    if (!node) return [];
    return node.anyOf ? node.anyOf.flatMap(choices) : [node];
  };
  const down = (nodes, key) => nodes.flatMap((node) => (node.properties?.[key] ? choices(node.properties[key]) : []));
  const inside = (nodes) => nodes.flatMap((node) => (node.items ? choices(node.items) : [node]));
  const at = (path, from = choices(schema)) => path.reduce((nodes, key) => inside(down(nodes, key)), from);
  return { deref, down, at };
};

/**
 * Keys of the lines above that a line belongs to.
 * @param {(number: number) => string} lineText lines from 1 @param {number} number @param {number} indent
 */
export const pathAt = (lineText, number, indent) => {
  const path = [];
  let least = indent;
  for (let n = number - 1; n > 0 && least > 0; n--) {
    const found = /^(\s*)((?:- )*)([\w-]+):\s*(.*)$/.exec(lineText(n));
    if (!found) continue;
    const outer = found[1].length;
    const own = outer + found[2].length;
    if (own < least && found[4] === "") {
      path.unshift(found[3]);
      least = outer;
    } else if (found[2] && own === least) least = outer + 1; // the first key of the list entry this one is in
  }
  return path;
};

/** @returns {Offer} */
const values = (names, from) => ({
  from,
  options: [
    ...Object.entries(names).map(([label, value]) => ({
      label,
      type: "variable",
      detail: value.last ? `last: ${value.last.slice(0, 30)}` : "",
      info: value.from,
    })),
    ...MAKERS.map((label) => ({ label, type: "function" })),
  ],
  validFor: /[\w.-]*/,
});

/** @returns {Offer} */
const keys = (walk, nodes, from) => {
  const seen = new Map();
  for (const node of nodes) {
    for (const [label, what] of Object.entries(node.properties || {})) {
      const found = walk.deref(what) || {};
      seen.set(label, {
        label,
        type: "property",
        apply: `${label}: `,
        detail: (node.required || []).includes(label) ? "needed" : "",
        info: what.description || found.description || undefined,
      });
    }
  }
  return { from, options: [...seen.values()], validFor: /[\w-]*/ };
};

/** @returns {Offer} */
const choicesOf = (walk, nodes, key, from) => {
  const options = walk
    .down(nodes, key)
    .flatMap((node) => (node.enum || []).map(String).concat(node.type === "boolean" ? ["true", "false"] : []));
  const all = key === "method" ? [...options, ...METHODS] : options;
  return { from, options: all.map((label) => ({ label, type: "enum" })), validFor: /[\w-]*/ };
};

/** In `{ … }` of one line the keys before it lead there. @param {string} before */
const inFlow = (before) => {
  const path = [...before.matchAll(/(?:^|[\s{,])(?:- )?([\w-]+):\s*(?=\{(?![^{}]*\}))/g)].map((found) => found[1]);
  const start = /^(\s*)((?:- )*)/.exec(before);
  const isList = /^\s*- \{/.test(before);
  return { path, indent: start[1].length + (isList ? 1 : start[2].length) };
};

/**
 * A function that says what to offer at a place (a context of the editor), or null.
 * @param {Node} schema @param {Record<string, {from: string, last?: string}>} names values by name
 */
export const completing = (schema, names) => (context) => {
  const walk = schemaWalk(schema);
  const { doc } = context.state;
  const line = doc.lineAt(context.pos);
  const before = line.text.slice(0, context.pos - line.from);
  const nodesAt = (indent) => walk.at(pathAt((number) => doc.line(number).text, line.number, indent));
  const hole = /\{\{\s*([\w.-]*)$/.exec(before);
  if (hole) return values(names, context.pos - hole[1].length);
  const key = /^(\s*)((?:- )*)([\w-]*)$/.exec(before);
  if (key && (key[3] || context.explicit)) {
    return keys(walk, nodesAt(key[1].length + key[2].length), context.pos - key[3].length);
  }
  const value = /^(\s*)((?:- )*)([\w-]+):\s+([\w-]*)$/.exec(before);
  if (value) {
    return choicesOf(walk, nodesAt(value[1].length + value[2].length), value[3], context.pos - value[4].length);
  }
  const flow = /[{,]\s*([\w-]*)$/.exec(before);
  if (!flow || !(flow[1] || context.explicit)) return null;
  const { path, indent } = inFlow(before);
  return keys(walk, walk.at(path, nodesAt(indent)), context.pos - flow[1].length);
};
