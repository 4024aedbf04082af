// The tape of a run: lanes on one clock, one crosshair, a window that the tables follow.
import { carrying } from "../carrying.js";
import { all } from "../dom.js";
import { drawn, values } from "./lanes.js";
import { placesOf } from "./frames.js";
import { nowOf, saidOf } from "./sentences.js";
import { follow } from "./stream.js";

const box = document.getElementById("tape");
const given = JSON.parse(document.getElementById("tape-data").textContent);
const places = Object.fromEntries(all("[data-says]", box).map((el) => [el.dataset.says, el]));
const tape = {
  frames: given.frames,
  at: placesOf(given.fields),
  planned: given.planned,
  limit: given.limit,
  measured: given.measured,
  end: () => Math.max(given.duration, given.frames.length),
};
const { frames } = tape;
const shown = { from: Number(box.dataset.from), to: Number(box.dataset.to) };
let pointed = given.over && frames.length ? Math.max(0, Math.min(frames.length, shown.to) - 1) : null;
let lanes = [];

// saying ---------------------------------------------------------------------------------------------

const tell = () => {
  const frame = frames[pointed == null || !frames[pointed] ? frames.length - 1 : pointed];
  if (!frame) return;
  const said = saidOf(frame, frames, tape.at, [shown.from, shown.to], given.begins);
  for (const [place, words] of Object.entries(said)) places[place].textContent = words;
  const now = document.getElementById("now");
  if (now) now.textContent = nowOf(frames[frames.length - 1], tape.at, given.duration);
};

// the window -----------------------------------------------------------------------------------------

let marking = false;
const mark = () => {
  marking = true;
  for (const plot of lanes) {
    const left = plot.valToPos(shown.from, "x");
    const width = Math.max(0, plot.valToPos(Math.min(shown.to, tape.end()), "x") - left);
    plot.setSelect({ left, width, top: 0, height: plot.over.clientHeight }, false);
  }
  marking = false;
};

let asked = 0;
const tables = async () => {
  const mine = ++asked;
  const { sort, down } = document.getElementById("rows").dataset;
  const address = `${box.dataset.tables}?from=${shown.from}&to=${shown.to}&sort=${sort}&down=${down}`;
  const answer = await fetch(address, { credentials: "same-origin" });
  const html = answer.ok ? await answer.text() : null;
  if (!html || mine !== asked) return;
  const target = document.getElementById("tables");
  carrying(target, () => {
    target.innerHTML = html;
    htmx.process(target);
  });
  box.dataset.redrawn = String(mine);
};

const setWindow = (from, to) => {
  Object.assign(shown, { from, to });
  mark();
  tables();
  tell();
};

const selected = (plot) => {
  if (marking) return;
  if (plot.select.width < 3) {
    mark();
    return;
  }
  const from = Math.max(0, Math.floor(plot.posToVal(plot.select.left, "x")));
  const to = Math.ceil(plot.posToVal(plot.select.left + plot.select.width, "x"));
  setWindow(from, Math.max(from + 1, to));
};

const measured = () => setWindow(Math.floor(given.measured[0]), Math.ceil(given.measured[1]));

// drawing --------------------------------------------------------------------------------------------

const pointedAt = (plot) => {
  const second = plot.cursor.idx;
  if (second == null || second === pointed) return;
  pointed = second;
  tell();
};

const build = () => {
  lanes = all("[data-lane]", box).map((place) => {
    const name = place.dataset.lane;
    const options = drawn[name](tape);
    options.width = place.clientWidth;
    Object.assign(options.hooks, { setSelect: [selected], setCursor: [pointedAt] });
    place.replaceChildren();
    const plot = new uPlot(options, values(name, tape), place);
    plot.lane = name;
    return plot;
  });
  setTimeout(mark, 0);
};

let drawing = false;
const redraw = () => {
  if (drawing) return;
  drawing = true;
  requestAnimationFrame(() => {
    drawing = false;
    for (const plot of lanes) plot.setData(values(plot.lane, tape), true);
    mark();
    tell();
  });
};

// keys and buttons -----------------------------------------------------------------------------------

const lengthen = (step) => {
  const end = tape.end();
  if (shown.to - shown.from >= end) shown.from = pointed || 0;
  setWindow(shown.from, Math.max(shown.from + 1, Math.min(end, Math.min(shown.to, end) + step * 5)));
};

const move = (step) => {
  const from = pointed == null ? frames.length - 1 : pointed;
  pointed = Math.max(0, Math.min(frames.length - 1, from + step));
  for (const plot of lanes) plot.setCursor({ left: plot.valToPos(pointed, "x"), top: 10 }, false);
  tell();
};

box.addEventListener("keydown", (event) => {
  if (event.target !== box) return;
  const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key] || 0;
  if (step) {
    event.preventDefault();
    if (event.shiftKey) lengthen(step);
    else move(step);
  } else if (event.key === "Escape") measured();
});
document.getElementById("whole").addEventListener("click", () => setWindow(0, Math.ceil(tape.end())));
document.getElementById("measured").addEventListener("click", measured);

document.addEventListener("htmx:after:swap", () => {
  // a kept exchange that was opened is looked at
  const kept = document.getElementById("kept");
  if (!kept || kept.contains(document.activeElement)) return;
  if (kept.children.length && kept.dataset.seen !== kept.textContent) {
    kept.dataset.seen = kept.textContent;
    kept.scrollIntoView({ block: "nearest" });
  }
});
addEventListener("resize", () => {
  for (const plot of lanes) plot.setSize({ width: plot.root.parentElement.clientWidth, height: plot.height });
  mark();
});

// live -----------------------------------------------------------------------------------------------

let isLeaving = false;
addEventListener("beforeunload", () => (isLeaving = true));
let heard = 0;
const told = {
  frame: (frame) => {
    if (frame[tape.at.second] >= frames.length) frames.push(frame);
    redraw();
    if (++heard % 5 === 0) tables();
  },
  log: (words) => {
    const problem = document.createElement("div");
    problem.className = "notification is-danger";
    problem.textContent = words;
    box.before(problem);
  },
  changed: () => {
    if (!isLeaving) location.reload(); // a link that was just followed goes first
  },
};
await document.fonts.ready;
build();
tell();
follow(box.dataset.stream, given, told, document.getElementById("lost"));
box.dataset.ready = "1";
