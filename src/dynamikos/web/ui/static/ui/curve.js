// The curve of a plan by hand: handles at the ends of its stretches, dragged or moved by arrow keys. They write into
// the figures beneath, which are what is kept; a row of who comes shows its layer alone while it is pointed at.
import { all, near, one } from "./dom.js";

const LEFT = 46;
const TOP = 16;
const WIDTH = 688;
const HEIGHT = 190;

/** @param {any} svg @param {string} name @returns {any[]} the fields of that name of a crowd's stretches */
const fields = (svg, name) => all(`[name=c${svg.dataset.crowd}-${name}]`);

/** Fields that only some kinds of stretches have: each row tells its kind, each curve those in it. */
const tellKinds = () => {
  for (const curve of all("table.curve")) {
    const kinds = all("tbody tr", curve).map((row) => (row.dataset.kind = one("select", row).value));
    curve.dataset.kinds = [...new Set(kinds)].join(" ");
  }
};
for (const name of ["input", "change"]) {
  document.addEventListener(name, (event) => near(event, "table.curve") && tellKinds());
}
document.addEventListener("htmx:after:swap", tellKinds);
addEventListener("load", tellKinds);
tellKinds();

/** What the figures say of each stretch. @param {any} svg */
const stretches = (svg) => {
  const [kinds, to, seconds, steps, points] = ["stretch", "to", "seconds", "steps", "points"].map((name) =>
    fields(svg, name),
  );
  return kinds.map((kind, at) => ({
    kind: kind.value,
    to: Number(to[at].value) || 0,
    seconds: Number(seconds[at].value) || 0,
    steps: Number(steps[at].value) || 2,
    points: points[at].value.split(",").map((point) => point.trim().split(/\s+/).map(Number)),
  }));
};

/** Corners [second, level] of a stretch that begins at `now` and `level`. */
const corners = (stretch, now, level) => {
  const end = now + stretch.seconds;
  if (stretch.kind === "climb") return [[end, stretch.to]];
  if (stretch.kind === "burst") return [[now, stretch.to], [end, stretch.to], [end, level]];
  if (stretch.kind === "stairs") {
    return Array.from({ length: stretch.steps }, (_, at) => {
      const high = level + ((stretch.to - level) * (at + 1)) / stretch.steps;
      return [at, at + 1].map((step) => [now + (stretch.seconds * step) / stretch.steps, high]);
    }).flat();
  }
  if (stretch.kind === "drawn" && stretch.points.every((point) => point.length === 2 && !point.some(isNaN))) {
    const last = stretch.points[stretch.points.length - 1];
    return [...stretch.points.map(([at, high]) => [now + at, high]), [end, last[1]]];
  }
  return [[end, level]];
};

/** The whole curve, and where each stretch ends. @param {any} svg */
const curve = (svg) => {
  let now = Number(svg.dataset.starts);
  let level = 0;
  const line = [[now, 0]];
  const ends = stretches(svg).map((stretch) => {
    line.push(...corners(stretch, now, level));
    now += stretch.seconds;
    level = line[line.length - 1][1];
    return [now, stretch.kind === "burst" ? stretch.to : level];
  });
  return { line, ends };
};

/** Where a corner [second, level] is in the picture. @param {any} svg @param {number[]} corner */
const place = (svg, corner) => [
  LEFT + (WIDTH * corner[0]) / Number(svg.dataset.total),
  TOP + HEIGHT * (1 - corner[1] / Number(svg.dataset.most)),
];

/** Draws line and handles anew from the figures; layers come back with the server's drawing. @param {any} svg */
const draw = (svg) => {
  const { line, ends } = curve(svg);
  const down = [line[line.length - 1][0], 0];
  const path = [...line, down].map((corner) => place(svg, corner).join(" ")).join("L");
  one(".line", svg).setAttribute("d", `M${path}`);
  for (const layer of all(".layer, .area", svg)) layer.setAttribute("visibility", "hidden");
  for (const knob of all(".knob", svg)) {
    const end = ends[Number(knob.dataset.stretch)];
    if (!end) continue;
    const [x, y] = place(svg, end);
    knob.setAttribute("x", String(x - 5));
    knob.setAttribute("y", String(y - 5));
    knob.parentNode.setAttribute("transform", `rotate(45 ${x} ${y})`);
    knob.setAttribute("aria-valuetext", `${Math.round(end[1] * 100) / 100} at second ${Math.round(end[0] * 10) / 10}`);
  }
};

/** Puts the end of a stretch at a second and a level, as far as its kind has one. */
const move = (svg, at, second, level) => {
  const before = at ? curve(svg).ends[at - 1][0] : Number(svg.dataset.starts);
  const seconds = fields(svg, "seconds")[at];
  seconds.value = String(Math.max(0, Math.round(second - before)));
  if (/climb|stairs|burst/.test(fields(svg, "stretch")[at].value)) {
    fields(svg, "to")[at].value = String(Math.max(0, Math.round(level)));
  }
  draw(svg);
};

const kept = (svg, at) => fields(svg, "seconds")[at].dispatchEvent(new Event("change", { bubbles: true }));

/** @type {{svg: any, at: number, before: string[]} | null} */
let dragged = null;

document.addEventListener("pointerdown", (event) => {
  const knob = near(event, ".profile .knob[data-stretch]");
  if (!knob || event.button !== 0) return;
  const svg = knob.closest("svg");
  const at = Number(knob.dataset.stretch);
  dragged = { svg, at, before: ["to", "seconds"].map((name) => fields(svg, name)[at].value) };
  knob.setPointerCapture(event.pointerId);
  knob.focus();
  event.preventDefault();
});
document.addEventListener("pointermove", (event) => {
  if (!dragged) return;
  const { svg, at } = dragged;
  const box = svg.getBoundingClientRect();
  const scale = 760 / box.width;
  const x = (event.clientX - box.left) * scale;
  const y = (event.clientY - box.top) * scale;
  const second = ((x - LEFT) / WIDTH) * Number(svg.dataset.total);
  const level = (1 - (y - TOP) / HEIGHT) * Number(svg.dataset.most);
  move(svg, at, second, level);
});
document.addEventListener("pointerup", () => {
  if (!dragged) return;
  kept(dragged.svg, dragged.at);
  dragged = null;
});

const STEPS = { ArrowUp: [0, 1], ArrowDown: [0, -1], ArrowRight: [1, 0], ArrowLeft: [-1, 0] };
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape" && dragged) {
    ["to", "seconds"].forEach((name, no) => (fields(dragged.svg, name)[dragged.at].value = dragged.before[no]));
    draw(dragged.svg);
    dragged = null;
    return;
  }
  const knob = near(event, ".profile .knob[data-stretch]");
  const step = STEPS[event.key];
  if (!knob || !step) return;
  event.preventDefault();
  const svg = knob.closest("svg");
  const at = Number(knob.dataset.stretch);
  const [second, level] = curve(svg).ends[at];
  const by = event.shiftKey ? 10 : 1;
  move(svg, at, second + by * step[0], level + by * step[1]);
  kept(svg, at);
});

// the server draws it anew after each change: whoever had the focus keeps it
let focused = "";
document.addEventListener("focusin", (event) => {
  const knob = near(event, ".profile .knob[data-stretch]");
  const crowd = knob ? knob.closest("svg").dataset.crowd : "";
  if (knob) focused = `svg[data-crowd="${crowd}"] .knob[data-stretch="${knob.dataset.stretch}"]`;
  else if (near(event, "input, select, textarea, button, a")) focused = "";
});
const drawing = one("#plan-drawing");
if (drawing) {
  new MutationObserver(() => {
    if (!focused || (document.activeElement && document.activeElement !== document.body)) return;
    const again = one(focused);
    if (again) again.focus();
  }).observe(drawing, { childList: true });
}

/** Shows the layer of one row alone, or all again. @param {string} ink */
const isolate = (ink) => {
  for (const layer of all(".profile .layer, .people .person")) {
    layer.classList.toggle("is-dim", ink !== "" && !layer.classList.contains(`kind${ink}`));
  }
};
for (const name of ["pointerover", "focusin"]) {
  document.addEventListener(name, (event) => {
    const row = near(event, "[data-ink]");
    if (row) isolate(row.dataset.ink);
    else if (one(".is-dim")) isolate("");
  });
}
