// Cells are kept as they are typed; the field of a masked one is empty while it is typed in.
import { all, one, send } from "./dom.js";

const SOON_MS = 250;
const MOST_SENT = 60000; // a browser sends about 64 kB for a page that is being left
const HIDDEN = "•••••";
const table = one("[data-cells]");
const says = one("#cell-says");
const waiting = new Map(); // cell → timer
const sending = new Map(); // cell → whether it was typed in again

const tell = (words, isBad = false) => {
  says.textContent = words;
  says.className = `small ${isBad ? "bad" : "faded"}`;
};
const isMasked = (cell) => "hidden" in cell.dataset;
const rowOf = (cell) => cell.closest("tr").dataset.row;

const stopWaiting = (cell) => {
  clearTimeout(waiting.get(cell));
  waiting.delete(cell);
};

const keep = async (cell, text) => {
  const { column, kept } = cell.dataset;
  const values = { row: rowOf(cell), column, text, ...(isMasked(cell) ? {} : { old: kept }) };
  const keepalive = new URLSearchParams(values).toString().length < MOST_SENT;
  try {
    const { ok, found } = await send(table.dataset.cells, values, { keepalive });
    if (ok) cell.dataset.kept = text;
    cell.classList.toggle("is-wrong", !ok);
    tell(ok ? "saved" : found.problem || "not saved", !ok);
  } catch {
    cell.classList.add("is-wrong");
    tell("Not saved: the connection to Dynamikos broke off. The text stays in its cell; type on to try again.", true);
  }
};

const save = async (cell) => {
  stopWaiting(cell);
  const text = cell.value;
  if (text === cell.dataset.kept) return;
  if (sending.has(cell)) {
    sending.set(cell, true);
    return;
  }
  sending.set(cell, false);
  tell("saving");
  await keep(cell, text);
  const isTypedAgain = sending.get(cell);
  sending.delete(cell);
  if (isTypedAgain) save(cell);
};

const flush = () => waiting.forEach((_, cell) => save(cell));

/** Several cells at once, as a spreadsheet copies them. @param {any} cell @param {string} block */
const paste = async (cell, block) => {
  flush();
  tell("pasting");
  try {
    const values = { row: rowOf(cell), column: cell.dataset.column, block };
    const { ok, found } = await send(table.dataset.cells, values);
    if (ok) location.assign(found.address);
    else tell(found.problem, true);
  } catch {
    tell("Not pasted: the connection to Dynamikos broke off. Nothing was changed.", true);
  }
};

const pasted = (event) => {
  const cell = event.target;
  const block = event.clipboardData.getData("text/plain");
  const inner = block.replace(/\r?\n$/, "");
  if (!cell.dataset.column || !/[\t\n]/.test(inner)) return;
  event.preventDefault();
  const find = one("input[name=find]");
  if (find && find.defaultValue && inner.includes("\n")) {
    // rows that were found do not stand beneath each other in the table
    tell("Several rows are pasted into the whole table, not among found ones: press All rows first.", true);
  } else paste(cell, block);
};

const walk = (event) => {
  const cell = event.target;
  if (!/^(ArrowUp|ArrowDown|Enter)$/.test(event.key) || !cell.dataset.column) return;
  const row = cell.closest("tr");
  const other = event.key === "ArrowUp" ? row.previousElementSibling : row.nextElementSibling;
  const to = other && one(`[data-column="${CSS.escape(cell.dataset.column)}"]`, other);
  if (!to) return;
  to.focus();
  to.select();
  event.preventDefault();
};

const typed = (event) => {
  const cell = event.target;
  if (!cell.dataset.column) return;
  clearTimeout(waiting.get(cell));
  const timer = setTimeout(() => save(cell), SOON_MS);
  waiting.set(cell, timer);
};

const emptied = (event) => {
  if (isMasked(event.target) && event.target.value === HIDDEN) event.target.value = "";
};
const maskedAgain = (event) => {
  const cell = event.target;
  if (!isMasked(cell) || cell.value !== "" || cell.dataset.kept !== HIDDEN) return;
  stopWaiting(cell);
  cell.value = HIDDEN;
};

if (table) {
  for (const cell of all("input[data-column]", table)) cell.dataset.kept = cell.value;
  table.addEventListener("input", typed);
  table.addEventListener("change", (event) => event.target.dataset.column && save(event.target));
  table.addEventListener("paste", pasted);
  table.addEventListener("focusin", emptied);
  table.addEventListener("focusout", maskedAgain);
  table.addEventListener("keydown", walk);
  addEventListener("pagehide", flush);
  document.addEventListener("visibilitychange", () => document.hidden && flush());
  document.addEventListener("pointerdown", flush, true);
}
