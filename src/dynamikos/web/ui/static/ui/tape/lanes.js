// The lanes: what each shows (`values`) and how (`drawn`). A new lane is an entry here and a box in the page.
import { clock, decades, milliseconds, three } from "./figures.js";
import { busyOf, endedOf, failuresOf, padded, usersOf } from "./frames.js";
import { ink, thinned } from "./inks.js";
import { lateMarks, limitLine, measuredMark, remarkMarks } from "./marks.js";

/**
 * @typedef {Object} Tape what all lanes share
 * @property {any[]} frames @property {Object<string, number>} at places of the fields
 * @property {number[]} planned users by second @property {number | null} limit on p95, ms
 * @property {[number, number]} measured @property {() => number} end of the clock, s
 */

const COUNTS = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000];
const SECONDS = [1, 5, 10, 30, 60, 120, 300, 600, 1800, 3600, 7200];
const fromZero = { range: (plot, low, high) => [0, Math.max(1, (high || 1) * 1.1)] };

const axis = (more) => ({
  stroke: ink("faded"),
  grid: { stroke: ink("ruling"), width: 1 },
  ticks: { show: false },
  font: "11px Recursive",
  size: 52,
  gap: 4,
  space: 16,
  ...more,
});

const line = (color, width, more) => ({
  stroke: ink(color),
  width,
  points: { show: false },
  spanGaps: false,
  ...more,
});

const clockAxis = (isLast) =>
  axis({
    space: 60,
    size: isLast ? 20 : 0,
    values: (plot, marks) => marks.map((mark) => (isLast ? clock(mark) : "")),
    incrs: SECONDS,
  });

/** @param {Tape} tape @param {number} height @param {Object[]} series @param {Object} scale @param {Object} more */
const lane = (tape, height, series, scale, more = {}) => ({
  width: 100,
  height,
  padding: [8, 20, more.isLast ? 0 : 8, 0],
  legend: { show: false },
  cursor: {
    sync: { key: "tape", setSeries: false },
    y: false,
    points: { show: false },
    drag: { x: true, y: false, setScale: false },
  },
  scales: { x: { time: false, range: () => [0, tape.end()] }, y: scale },
  axes: [clockAxis(more.isLast), axis({ ...more.y, size: 64 })],
  series: [{}, ...series],
  hooks: { draw: more.draw || [] },
  ...(more.bands ? { bands: more.bands } : {}),
});

/** @type {Object<string, (tape: Tape) => Object>} how each lane is drawn */
export const drawn = {
  users: (tape) =>
    lane(
      tape,
      96,
      [
        line("ochre-line", 1.5, { dash: [4, 4] }),
        line("ochre-line", 2, { fill: thinned("ochre-line", 0.18) }),
        line("ochre-line", 0, { fill: thinned("ochre-line", 0.34) }),
      ],
      fromZero,
      { draw: [remarkMarks(tape)], y: { incrs: COUNTS } },
    ),
  rate: (tape) => lane(tape, 70, [line("ink", 1.4)], fromZero, { y: { incrs: COUNTS } }),
  time: (tape) =>
    lane(
      tape,
      140,
      [line("indigo", 1.8), line("indigo", 1.2, { dash: [1, 2] }), line("indigo", 0.8)],
      {
        distr: 3,
        range: (plot, low, high) => [
          Math.max(0.5, (low || 10) * 0.7),
          Math.max((high || 100) * 1.5, (tape.limit || 0) * 1.4),
        ],
      },
      {
        bands: [{ series: [1, 2], fill: thinned("indigo", 0.2) }],
        draw: [limitLine(tape.limit)],
        y: {
          splits: (plot) => decades(plot.scales.y.min, plot.scales.y.max),
          filter: (plot, marks) => marks,
          values: (plot, marks) => marks.map(milliseconds),
        },
      },
    ),
  failures: (tape) => {
    const bars = uPlot.paths.bars({ size: [0.9, 8, 2], align: 1 });
    const series = [line("madder", 0, { fill: ink("madder"), paths: bars })];
    return lane(tape, 48, series, fromZero, { y: { splits: (plot) => [0, Math.round(plot.scales.y.max || 1)] } });
  },
  generators: (tape) =>
    lane(
      tape,
      76,
      [line("plum", 1.4)],
      { range: (plot, low, high) => [0, Math.max(12, (high || 1) * 1.1)] },
      {
        isLast: true,
        draw: [lateMarks(tape), measuredMark(tape.measured)],
        y: { values: (plot, marks) => marks.map((mark) => mark + " ms") },
      },
    ),
};

const DASHES = [[], [6, 3], [2, 3], [8, 3, 2, 3]];

/**
 * Where a probe was silent: of the holes in a line those that are wider than its readings are apart (a probe that is
 * read every five seconds has four empty ones between two).
 * @param {any} plot @param {number} at @param {number} from @param {number} to
 * @param {[number, number][]} holes in pixels @returns {[number, number][]}
 */
export const silences = (plot, at, from, to, holes) => {
  const seconds = 2.5 * usualDistance(plot.data[0], plot.data[at]);
  const width = plot.valToPos(seconds, "x", true) - plot.valToPos(0, "x", true);
  return holes.filter(([begin, end]) => end - begin > width);
};

/** The shortest time between two values that are there. @param {number[]} seconds @param {(number | null)[]} values */
export const usualDistance = (seconds, values) => {
  let [least, before] = [Infinity, -Infinity];
  values.forEach((value, place) => {
    if (value == null) return;
    least = Math.min(least, seconds[place] - before);
    before = seconds[place];
  });
  return least;
};

/** A lane of measures that probes told of. @param {Tape} tape @param {{lines: any[]}} of */
export const measuring = (tape, of) =>
  lane(
    tape,
    72,
    of.lines.map((_, at) => line(at < 4 ? "slate" : "faded", 1.4, { dash: DASHES[at % 4], gaps: silences })),
    { range: (plot, low, high) => [Math.min(0, low || 0), (high || 1) * 1.15 || 1] },
    { draw: [remarkMarks(tape)], y: { values: (plot, marks) => marks.map(three) } },
  );

/** @type {Object<string, (tape: Tape) => any[][]>} by frame what each lane shows, one array a line */
const lines = {
  users: ({ frames, at }) => [frames.map((frame) => usersOf(frame, at)), frames.map((frame) => busyOf(frame, at))],
  rate: ({ frames, at }) => [frames.map((frame) => endedOf(frame, at))],
  time: ({ frames, at }) => ["p95_ms", "p50_ms", "p99_ms"].map((name) => frames.map((frame) => frame[at[name]])),
  failures: ({ frames, at }) => [
    frames.map((frame) => (frame[at.failed] + frame[at.steps_failed] > 0 ? failuresOf(frame, at) : null)),
  ],
  generators: ({ frames, at }) => [frames.map((frame) => frame[at.late_p99_ms])],
};

/** @param {string} name of a lane @param {Tape} tape @returns {any[][]} seconds, then each line, alike long */
export const values = (name, tape) => {
  const seconds = tape.frames.map((frame) => frame[tape.at.second]);
  const last = seconds.length ? seconds[seconds.length - 1] : -1;
  const width = Math.max(1, Math.ceil(tape.planned.length / 800));
  for (let second = last + 1; second < tape.planned.length; second += width) seconds.push(second);
  const found = lines[name](tape).map((one) => padded(one, seconds.length));
  if (name === "users") found.unshift(seconds.map((second) => tape.planned[second] || 0));
  return [seconds, ...found];
};
