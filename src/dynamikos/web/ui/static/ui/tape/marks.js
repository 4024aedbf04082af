// What is drawn over the lanes: late generators, the objective's limit, the measured part.
import { milliseconds } from "./figures.js";
import { ink, thinned } from "./inks.js";

/** Seconds in which a generator was late. @param {{frames: any[], at: Object<string, number>}} tape */
export const lateMarks = (tape) => (plot) => {
  const { ctx: pen, bbox: box } = plot;
  pen.save();
  pen.fillStyle = thinned("plum", 0.28);
  for (const frame of tape.frames) {
    if (!frame[tape.at.is_late]) continue;
    const left = plot.valToPos(frame[tape.at.second], "x", true);
    const width = Math.max(2, plot.valToPos(frame[tape.at.second] + 1, "x", true) - left);
    pen.fillRect(left, box.top, width, box.height);
  }
  pen.restore();
};

const label = (pen, words, right, y) => {
  pen.font = Math.round(11 * devicePixelRatio) + "px Recursive";
  pen.textAlign = "right";
  const width = pen.measureText(words).width;
  pen.fillStyle = ink("raised");
  pen.fillRect(right - width - 3, y - 17 * devicePixelRatio, width + 6, 15 * devicePixelRatio);
  pen.fillStyle = ink("ink");
  pen.fillText(words, right, y - 5 * devicePixelRatio);
};

/** @param {number | null} limit of the objective on p95, ms */
export const limitLine = (limit) => (plot) => {
  if (limit == null) return;
  const { ctx: pen, bbox: box } = plot;
  const y = plot.valToPos(limit, "y", true);
  if (y < box.top || y > box.top + box.height) return;
  pen.save();
  pen.strokeStyle = ink("ink");
  pen.setLineDash([3, 3]);
  pen.beginPath();
  pen.moveTo(box.left, y);
  pen.lineTo(box.left + box.width, y);
  pen.stroke();
  label(pen, "objective p95 ≤ " + milliseconds(limit), box.left + box.width - 4, y);
  pen.restore();
};

/** @param {[number, number]} measured from, to in s */
export const measuredMark =
  ([from, to]) =>
  (plot) => {
    const { ctx: pen, bbox: box } = plot;
    const left = plot.valToPos(from, "x", true);
    const height = 3 * devicePixelRatio;
    pen.save();
    pen.fillStyle = ink("ink");
    pen.fillRect(left, box.top + box.height - height, plot.valToPos(to, "x", true) - left, height);
    pen.restore();
  };

/** Remarks: a line down and a small flag. @param {{remarks: [number, string][]}} tape */
export const remarkMarks = (tape) => (plot) => {
  const { ctx: pen, bbox: box } = plot;
  pen.save();
  pen.fillStyle = pen.strokeStyle = ink("ink");
  pen.setLineDash([1, 3]);
  for (const [second] of tape.remarks) {
    const x = plot.valToPos(second, "x", true);
    pen.beginPath();
    pen.moveTo(x, box.top);
    pen.lineTo(x, box.top + box.height);
    pen.stroke();
    pen.beginPath();
    pen.moveTo(x, box.top);
    pen.lineTo(x + 8 * devicePixelRatio, box.top + 4 * devicePixelRatio);
    pen.lineTo(x, box.top + 8 * devicePixelRatio);
    pen.fill();
  }
  pen.restore();
};
