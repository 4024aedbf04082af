// Raw form data pasted into rows of names and values becomes those rows: shown first, and only then put there.
import { all, make, near, one } from "../dom.js";
import { rowsIn } from "./parsing.js";

const isFull = (pair) => all("input", pair).some((field) => field.value);

/** Puts rows there, instead of what is there or after it. @param {any} place @param {string[][]} given */
const put = (place, given, isInstead) => {
  const row = one(".pairs:last-child", place);
  const old = all(".pairs", place).filter((pair) => isInstead || !isFull(pair));
  for (const values of [...given, ["", ""]]) {
    const copy = row.cloneNode(true);
    all("input", copy).forEach((field, at) => (field.value = values[at]));
    place.append(copy);
  }
  for (const pair of old) pair.remove();
  const first = one("input", place);
  first.focus();
  first.dispatchEvent(new Event("change", { bubbles: true }));
};

const button = (words, go, look = "") => {
  const made = make("button", words, `button is-small ${look}`);
  made.type = "button";
  made.addEventListener("click", go);
  return made;
};

const tableOf = (given) => {
  const table = make("table", "", "table is-fullwidth");
  for (const [name, value] of given) {
    const row = make("tr");
    row.append(make("td", name, "mono small wrap"), make("td", value, "mono small wrap"));
    table.append(row);
  }
  return table;
};

/** What can be done with what was pasted. */
const buttonsOf = (box, field, place, given, text) => {
  const full = all(".pairs", place).filter(isFull).length;
  const puts = (isInstead) => () => {
    put(place, given, isInstead);
    box.remove();
  };
  const back = () => {
    box.remove();
    field.focus();
  };
  const row = make("p", "", "row");
  if (full) {
    row.append(button(`Replace the ${full} there`, puts(true), "is-primary"), button("Add them", puts(false)));
  } else row.append(button("Put them there", puts(true), "is-primary"));
  const asItIs = () => {
    back();
    document.execCommand("insertText", false, text);
  };
  row.append(button("Paste as it is", asItIs), button("Leave it", back));
  return row;
};

document.addEventListener("paste", (event) => {
  const field = near(event, "[data-rows] .pairs input");
  const place = field && field.closest("[data-rows]");
  if (!place || all("input", one(".pairs:last-child", place)).length !== 2) return;
  const text = event.clipboardData.getData("text");
  const given = rowsIn(text);
  // a value with = or : in it is a value
  if (!given.length || (given.length === 1 && field.name.endsWith("-value"))) return;
  event.preventDefault();
  const box = make("div", "", "notification is-info pasted");
  box.setAttribute("role", "group");
  box.setAttribute("aria-label", "What was pasted");
  const counted = `${given.length} ${given.length === 1 ? "field" : "fields"}`;
  const buttons = buttonsOf(box, field, place, given, text);
  box.append(make("p", `Pasted: ${counted}. Nothing is changed yet.`), tableOf(given), buttons);
  one(".pasted", place.parentElement)?.remove();
  place.after(box);
  one("button", buttons).focus();
});
