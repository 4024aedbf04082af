// A casebook's page: its blocks are moved by drag, by buttons and by Alt with an arrow; taken out, and put between.
import { all, isTyping, make, near, one, send } from "./dom.js";
import { flush } from "./keeping/forms.js";

const FAR_PX = 8; // a shorter way is a click
const paper = one("#paper");
const blocks = () => all("[data-block]", paper);

const say = (text) => {
  const box = one("#casebook-says");
  box.replaceChildren(...(text ? [make("p", text, "notification is-danger")] : []));
};

/** What is done with the blocks, on the server first. @param {Record<string, string>} values */
const change = async (values) => {
  flush(); // what was typed goes first
  for (let n = 0; n < 100 && one(".htmx-request"); n += 1) await new Promise((go) => setTimeout(go, 30));
  const parent = one("#parent").value;
  const { ok, found } = await send(paper.dataset.blocks, { ...values, parent });
  const isDone = ok && Boolean(found.token);
  say(isDone ? "" : found.problem);
  if (isDone) one("#parent").value = found.token;
  return isDone ? found : null;
};

const move = async (block, to) => {
  const every = blocks();
  const from = every.indexOf(block);
  if (to < 0 || to >= every.length || to === from) return;
  if (!(await change({ do: "move", key: block.dataset.block, to: String(to) }))) return;
  const rest = every.filter((each) => each !== block);
  if (to < rest.length) rest[to].before(block);
  else rest[rest.length - 1].after(block);
  block.focus();
};

const remove = async (block) => {
  const next = block.nextElementSibling || block.previousElementSibling;
  if (!(await change({ do: "remove", key: block.dataset.block }))) return;
  block.remove();
  if (next) next.focus();
};

const add = async (block) => {
  const after = block ? block.dataset.block : (blocks().at(-1)?.dataset.block ?? "");
  const found = await change({ do: "add", after });
  if (!found) return;
  const box = make("div");
  box.innerHTML = found.html;
  const fresh = box.firstElementChild;
  const before = block || blocks().at(-1);
  if (before) before.after(fresh);
  else paper.replaceChildren(fresh);
  window.htmx.process(fresh);
  one("textarea", fresh).focus();
};

const does = {
  up: (block) => move(block, blocks().indexOf(block) - 1),
  down: (block) => move(block, blocks().indexOf(block) + 1),
  remove,
  add,
};

document.addEventListener("click", (event) => {
  const button = near(event, "[data-block-do]");
  if (button) does[button.dataset.blockDo](button.closest("[data-block]"));
});

document.addEventListener("keydown", (event) => {
  const block = near(event, "[data-block]");
  if (!block || !event.altKey || isTyping(event) || !/^Arrow(Up|Down)$/.test(event.key)) return;
  event.preventDefault();
  does[event.key === "ArrowUp" ? "up" : "down"](block);
});

/** @type {{block: any, y: number} | null} */
let drag = null;
const placeAt = (y) => {
  const others = blocks().filter((each) => each !== drag.block);
  const at = others.findIndex((each) => {
    const box = each.getBoundingClientRect();
    return y < box.top + box.height / 2;
  });
  return at < 0 ? others.length : at;
};

document.addEventListener("pointerdown", (event) => {
  const handle = near(event, ".handle");
  if (!handle) return;
  event.preventDefault();
  drag = { block: handle.closest("[data-block]"), y: event.clientY };
});
document.addEventListener("pointermove", (event) => {
  if (!drag || Math.abs(event.clientY - drag.y) < FAR_PX) return;
  drag.block.classList.add("is-dragged");
  for (const each of blocks()) each.classList.remove("is-target");
  const others = blocks().filter((each) => each !== drag.block);
  others[placeAt(event.clientY)]?.classList.add("is-target");
});
document.addEventListener("pointerup", (event) => {
  if (!drag) return;
  const { block, y } = drag;
  const to = placeAt(event.clientY);
  drag = null;
  for (const each of blocks()) each.classList.remove("is-target", "is-dragged");
  if (Math.abs(event.clientY - y) >= FAR_PX) move(block, to);
});

// a paragraph is as high as what stands in it
const grow = (field) => {
  field.style.height = "auto";
  field.style.height = `${field.scrollHeight + 2}px`;
};
document.addEventListener("input", (event) => {
  const field = near(event, "textarea.own");
  if (field) grow(field);
});
for (const each of all("textarea.own")) grow(each);
