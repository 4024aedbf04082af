// Trying a function: its arguments are named as its definition names them; what was kept while typing is offered at
// once.
import { all, make, one } from "./dom.js";

const form = one("[data-try]");
const area = one("textarea[data-editor=python]");
const given = new Map(); // what was typed for an argument is kept when another function is looked at
const known = one("#signatures");
let signatures = known ? JSON.parse(known.textContent) : {};

const input = (name, value, placeholder, label) => {
  const field = make("input", "", "input code");
  Object.assign(field, { type: "text", name, value, placeholder });
  field.setAttribute("aria-label", label);
  return field;
};

const pairOf = (name) => {
  const pair = make("div", "", "pairs");
  pair.append(
    input("arg-name", name, "name", "Name of the argument"),
    input("arg-value", given.get(name) || "", "text", name ? `Text for ${name}` : "Text"),
  );
  return pair;
};

const showArguments = () => {
  const rows = one("[data-arguments]", form);
  for (const pair of all(".pairs", rows)) given.set(pair.children[0].value, pair.children[1].value);
  const names = signatures[one("select", form).value] || [];
  rows.replaceChildren(...(names.length ? names : [""]).map(pairOf));
};

const counted = (number, one) => `${number} ${number === 1 ? one : `${one}s`}`;

const kept = (event) => {
  if (!event.detail.signatures) return;
  signatures = event.detail.signatures;
  const choice = one("select", form);
  const chosen = choice.value;
  const names = Object.keys(signatures);
  choice.replaceChildren(...names.map((name) => new Option(name, name, false, name === chosen)));
  showArguments();
  const modules = all(".tabs a[href^='?at=']:not([href='?at='])").length;
  one("h1").textContent = names.length
    ? `${counted(names.length, "function")} in ${counted(modules, "module")}`
    : "No Python function yet";
};

if (form) {
  one("select", form).addEventListener("change", showArguments);
  if (area) area.addEventListener("kept", kept);
  showArguments();
}
