// Nothing typed is lost by leaving: links and buttons wait until it is saved; a page that goes sends what it has.
import { all, formKey, near } from "../dom.js";
import { dirty, flush, isSent, serial, tab } from "./forms.js";

const MOST_SENT = 60000; // a browser sends about 64 kB for a page that is being left
const LONGEST_MS = 5000; // that a click waits for what is being saved
// after which a page looks whether its fields were kept after it was made
const LOOKS_MS = [300, 1000, 2500, 6000, 15000, 30000];

let saving = 0; // changes under way
const sent = window.fetch.bind(window);
const counted = (what, how) => {
  const method = ((how && how.method) || (what && what.method) || "GET").toUpperCase();
  const asks = String((what && what.url) || what).endsWith("/evaluate"); // asking what it comes to saves nothing
  if (method === "GET" || asks) return sent(what, how);
  saving++;
  return sent(what, how).finally(() => saving--);
};
window.fetch = counted;

/** @param {() => void} go */
const onceSaved = (go) => {
  const end = performance.now() + LONGEST_MS;
  const look = () => (saving > 0 && performance.now() < end ? setTimeout(look, 20) : setTimeout(go, 30));
  setTimeout(look, 20);
};

const wordsOf = (el) => el.textContent.replace(/\s+/g, " ").trim();

/** What was clicked, or what was made in its place by what was saved meanwhile. @param {any} el */
const nowThere = (el) => {
  if (el.isConnected) return el;
  const isSame = (name) => (other) => other.getAttribute(name) === el.getAttribute(name);
  const marks = ["data-command", "href", "name", "value"].map(isSame);
  return all(el.tagName).find((other) => marks.every((is) => is(other)) && wordsOf(other) === wordsOf(el));
};

const clickNow = (el) => {
  const there = nowThere(el);
  if (!there) return;
  there.dataset.waited = "1";
  if (there.click) there.click();
  // rungs are SVG
  else there.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true, view: window }));
  delete there.dataset.waited;
};

const clicked = (event) => {
  const el = near(event, "a[href], form:not([data-saves]) button");
  if (!el || el.closest("[data-rows]") || el.dataset.waited || event.ctrlKey || event.metaKey) return;
  const isWaiting = saving > 0 || [...dirty].some((form) => form.isConnected && !isSent(form));
  if (!isWaiting) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  flush();
  onceSaved(() => clickNow(el));
};
document.addEventListener("click", clicked, true);

/** A form's fields, with those that it includes from elsewhere on the page. @param {HTMLFormElement} form */
const included = (form) => {
  const data = new FormData(form);
  const more = form.getAttribute("hx-include");
  for (const el of more ? all(more) : []) if (el.name && !data.has(el.name)) data.append(el.name, el.value);
  return data;
};

addEventListener("pagehide", () => {
  for (const form of dirty) {
    if (!form.isConnected) continue;
    sessionStorage.setItem("left", location.pathname);
    const headers = { "X-CSRFToken": formKey(), "X-Tab": tab, "HX-Request": "true" };
    sent(form.getAttribute("hx-post"), { method: "POST", keepalive: true, headers, body: included(form) });
  }
});
addEventListener("beforeunload", (event) => {
  if ([...dirty].some((form) => serial(form).length > MOST_SENT)) event.preventDefault();
});

// a page that was made before its fields were kept is made anew, as soon as the server had time for it
const fieldsOf = (page) => {
  const fields = all("#parent, form[data-saves] [name]", page);
  return fields.map((el) => el.getAttribute("value") || el.textContent).join();
};
const lookAgain = async () => {
  const page = new DOMParser().parseFromString(await (await sent(location.href)).text(), "text/html");
  if (!dirty.size && fieldsOf(page) !== fieldsOf(document)) location.reload();
};
if (sessionStorage.getItem("left") === location.pathname) {
  sessionStorage.removeItem("left");
  for (const wait of LOOKS_MS) setTimeout(lookAgain, wait);
}
