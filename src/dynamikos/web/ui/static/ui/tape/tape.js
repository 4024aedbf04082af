// The tape of a run: lanes on one clock, one crosshair, a window that the tables follow.
import { carrying, untouched } from "../carrying.js";
import { all } from "../dom.js";
import { clock } from "./figures.js";
import { drawn, measuring, values } from "./lanes.js";
import { frameAt, placesOf } from "./frames.js";
import { Measures } from "./measures.js";
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
  remarks: given.remarks,
  end: () => Math.max(given.duration, reached() + 1),
};
const { frames } = tape;
/** @returns {number} the last second that is known, −1 before the first */
const reached = () => {
  const last = frames[frames.length - 1];
  return last ? last[tape.at.second] + (last[tape.at.seconds] || 1) - 1 : -1;
};
const measures = new Measures(given, box.dataset.lines);
const shown = { from: Number(box.dataset.from), to: Number(box.dataset.to) };
let pointed = given.over && frames.length ? Math.max(0, Math.min(reached() + 1, shown.to) - 1) : null;
let lanes = [];

/** @type {Map<import("./measures.js").Lane, HTMLElement>} where each lane of measures says its figures */
const saying = new Map();

// saying ---------------------------------------------------------------------------------------------

const tell = () => {
  const frame = frameAt(frames, tape.at, pointed == null ? reached() : pointed);
  if (!frame) return;
  for (const [lane, place] of saying) place.textContent = measures.says(lane, frame[tape.at.second]);
  const said = saidOf(frame, frames, tape.at, [shown.from, shown.to], given.begins);
  for (const [place, words] of Object.entries(said)) places[place].textContent = words;
  places.failures.classList.toggle("faded", said.failures.startsWith("0 "));
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
  Object.assign(box.dataset, { from: shown.from, to: shown.to }); // what a pin of a lane is of
  const { sort, down, row, generator, outcome } = document.getElementById("rows").dataset;
  const whose = `row=${encodeURIComponent(row)}&generator=${encodeURIComponent(generator)}`;
  const slice = `from=${shown.from}&to=${shown.to}&${whose}`;
  const address = `${box.dataset.tables}?${slice}&outcome=${outcome}&sort=${sort}&down=${down}`;
  const target = document.getElementById("tables");
  target.setAttribute("aria-busy", "true");
  try {
    const answer = await fetch(address, { credentials: "same-origin" });
    const html = answer.ok ? await answer.text() : null;
    await untouched(target);
    if (!html || mine !== asked) return;
    carrying(target, () => {
      target.innerHTML = html;
      htmx.process(target);
    });
    box.dataset.redrawn = String(mine);
  } finally {
    if (mine === asked) target.removeAttribute("aria-busy");
  }
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
  const place = plot.cursor.idx;
  const second = place == null ? null : plot.data[0][place];
  if (second == null || second === pointed) return;
  pointed = second;
  tell();
};

/** A button that pins a lane of measures, as those of the other lanes do. */
const pinLike = (place, lane) => {
  const other = box.querySelector("[data-what=lane]");
  if (!other) return;
  const button = /** @type {HTMLElement} */ (other.cloneNode(true));
  const of = new URLSearchParams(button.dataset.pin);
  of.set("lane", lane.key);
  Object.assign(button.dataset, { pin: of.toString(), title: lane.title, command: `Pin: ${lane.title}` });
  button.setAttribute("aria-label", `Pin ${lane.title}`);
  place.querySelector(".label").append(" ", button);
};

/** A lane of measures in the page, before that of the generators. */
const boxOf = (lane) => {
  const made = document.createElement("div");
  made.className = "lane";
  made.innerHTML =
    '<div class="draw"></div><div class="says"><div class="label"></div><b class="server figure"></b>' +
    '<button type="button" class="hide">hide</button></div>';
  made.querySelector(".label").textContent = lane.title;
  const hide = made.querySelector(".hide");
  hide.setAttribute("aria-label", `Hide the lane ${lane.title}`);
  hide.addEventListener("click", () => {
    measures.hide(lane.key);
    saying.delete(lane);
    build();
  });
  made.classList.toggle("has-many", lane.lines.length > 1);
  saying.set(lane, made.querySelector("b"));
  made.dataset.measure = lane.key;
  pinLike(made, lane);
  document.getElementById("last-lane").before(made);
  return /** @type {HTMLElement} */ (made.querySelector(".draw"));
};

const drawnAt = (place, options, data) => {
  options.width = place.clientWidth;
  Object.assign(options.hooks, { setSelect: [selected], setCursor: [pointedAt] });
  place.replaceChildren();
  const plot = new uPlot(options, data(), place);
  plot.fresh = data;
  return plot;
};

const build = () => {
  for (const old of all("[data-measure]", box)) old.remove();
  saying.clear();
  lanes = all("[data-lane]", box).map((place) => {
    const name = place.dataset.lane;
    return drawnAt(place, drawn[name](tape), () => values(name, tape));
  });
  for (const lane of measures.shownLanes())
    lanes.push(drawnAt(boxOf(lane), measuring(tape, lane), () => measures.data(lane)));
  setTimeout(mark, 0);
  tell();
};

let drawing = false;
const redraw = () => {
  if (drawing) return;
  drawing = true;
  requestAnimationFrame(() => {
    drawing = false;
    for (const plot of lanes) plot.setData(plot.fresh(), true);
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
  const from = pointed == null ? reached() : pointed;
  pointed = Math.max(0, Math.min(reached(), from + step));
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
document.addEventListener("click", (event) => {
  const file = /** @type {HTMLElement} */ (event.target).closest?.("[data-file]"); // of the window that is shown
  if (!(file instanceof HTMLAnchorElement)) return;
  const { row } = document.getElementById("rows").dataset;
  file.search = `?from=${shown.from}&to=${shown.to}&row=${row}`;
});
document.addEventListener("click", (event) => {
  // a stretch, a remark, a finding: whatever names a window leads to it
  const named = /** @type {HTMLElement} */ (event.target).closest?.("[data-window-from]");
  if (!(named instanceof HTMLElement)) return;
  const { windowFrom, windowTo } = named.dataset;
  setWindow(Math.max(0, Number(windowFrom)), Math.min(Math.ceil(tape.end()), Number(windowTo)));
});
document.getElementById("measured").addEventListener("click", measured);

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
    if (frame[tape.at.second] > reached()) frames.push(frame);
    if (frames.length > 2400) location.reload(); // the server gives fewer points then
    redraw();
    if (++heard % 5 === 0) tables();
  },
  log: (words) => {
    const problem = document.createElement("div");
    problem.className = "notification is-danger";
    problem.textContent = words;
    box.before(problem);
  },
  probes: ([second, values]) => {
    if (!measures.knows(values)) return location.reload(); // the first that is told of the servers
    measures.add(second, values);
    redraw();
  },
  findings: () => location.reload(),
  remark: ([second, text]) => {
    tape.remarks.push([second, text]);
    const line = document.createElement("li");
    line.textContent = `${clock(second)} ${text}`;
    document.getElementById("remarks").append(line);
    redraw();
  },
  changed: () => {
    if (!isLeaving) location.reload(); // a link that was just followed goes first
  },
};
const addLane = async (key) => {
  await measures.show(key);
  build();
};
const more = /** @type {HTMLSelectElement | null} */ (document.getElementById("more-lanes"));
if (more)
  more.addEventListener("change", () => {
    const { value } = more;
    more.value = "";
    if (value) addLane(value);
  });
document.addEventListener("click", async (event) => {
  // a suspect is laid under the lanes of the run
  const named = /** @type {HTMLElement} */ (event.target).closest?.("[data-shows-lane]");
  if (!(named instanceof HTMLElement)) return;
  await addLane(named.dataset.showsLane);
  const lane = all("[data-measure]").find((each) => each.dataset.measure === named.dataset.showsLane);
  lane?.scrollIntoView({ block: "center" });
});
await document.fonts.ready;
await measures.ready();
build();
const since = { last: given.last, over: given.over && given.noticed };
follow(box.dataset.stream, since, told, document.getElementById("lost"));
box.dataset.ready = "1";
