// Letters are keys of the view, where nothing is typed: a key clicks what shows it.
import { all, isTyping, make, near, one } from "../dom.js";

const ALWAYS = [
  ["j / k", "Next or previous in the list or ladder"],
  ["Enter", "Open it"],
  ["/ or Ctrl+K", "Command field"],
  ["Esc", "Close; leave a field, so that letters are keys again"],
];
const nameOf = (el) => el.dataset.command || el.textContent.trim();
const openField = () => dispatchEvent(new Event("command-field"));

const showHelp = () => {
  const help = one("#key-help");
  const rows = [...all("[data-key]").map((el) => [el.dataset.key, nameOf(el)]), ...ALWAYS].map(([key, name]) => {
    const row = make("tr");
    row.append(make("td", key, "mono"), make("td", name));
    return row;
  });
  one("tbody", help).replaceChildren(...rows);
  help.showModal();
};

const leaveField = (event) => {
  const rung = near(event, "#panel") && one("#ladder a[aria-current]");
  if (rung) rung.focus();
  else event.target.blur(); // letters are keys again
};

const walk = (event) => {
  const items = all("[data-walk] a, a[data-walk]");
  if (!items.length) return;
  let at = items.indexOf(document.activeElement);
  if (at < 0) at = items.findIndex((el) => el.getAttribute("aria-current"));
  const to = items[Math.max(0, Math.min(items.length - 1, at + (event.key === "j" ? 1 : -1)))];
  to.focus();
  to.scrollIntoView({ block: "nearest" });
  event.preventDefault();
};

const press = (event) => {
  const key = (event.altKey ? "Alt+" : "") + event.key;
  const target = all("[data-key]").find((el) => el.dataset.key === key && !el.disabled);
  if (!target) return;
  event.preventDefault();
  target.click();
};

// keys stand back while letters are typed; a class, since a rule about “has a focused field” makes the browser look at
// the style of the whole page whenever anything of it changes
for (const name of ["focusin", "focusout"]) {
  document.addEventListener(name, (event) => {
    document.body.classList.toggle("is-typing", name === "focusin" && isTyping(event));
  });
}

document.addEventListener("keydown", (event) => {
  const isOpen = Boolean(one("dialog[open]"));
  if (event.ctrlKey && event.key.toLowerCase() === "k") {
    event.preventDefault();
    openField();
    return;
  }
  if (isTyping(event)) {
    if (event.key === "Escape" && !isOpen && !near(event, ".editor")) leaveField(event);
    return;
  }
  if (isOpen || event.ctrlKey || event.metaKey || (event.altKey && !/Arrow/.test(event.key))) return;
  if (event.key === "/") {
    event.preventDefault();
    openField();
  } else if (event.key === "?") showHelp();
  else if (event.key === "j" || event.key === "k") walk(event);
  else press(event);
});
