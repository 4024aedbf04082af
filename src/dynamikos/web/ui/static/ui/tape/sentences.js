// What is said beside the lanes about one second and the window: pure, tested in tests/browser/test_modules.py.
import { clock, milliseconds, three } from "./figures.js";
import { endedOf, failuresOf, mostFailed, usersOf, windowOf } from "./frames.js";

/** @typedef {import("./frames.js").Frame} Frame */
/** @typedef {import("./frames.js").Places} Places */

const statesOf = (frame, at) => {
  const leaving = frame[at.leaving] ? `, ${frame[at.leaving]} leaving` : "";
  return `${frame[at.thinking]} thinking, ${frame[at.busy] + frame[at.starting]} busy${leaving}`;
};

/** Users there, of those that are planned: who arrives is not. */
const ofPlanned = (frame, at) => {
  const planned = frame[at.planned];
  return planned ? `${usersOf(frame, at)} of ${planned}` : `${usersOf(frame, at)}`;
};

const generatorsOf = (frame, at) => {
  const late = frame[at.is_late] ? `, late: ${(frame[at.late_by] || []).join(", ") || "its users"}` : "";
  return `processor ${three(frame[at.cpu_percent])} %${late}`;
};

const utcOf = (begins, second) =>
  begins == null ? "" : ` · ${new Date((begins + second) * 1000).toISOString().slice(11, 19)} UTC`;

/**
 * @param {Frame} frame the second that is pointed at @param {Frame[]} frames all
 * @param {Places} at @param {[number, number]} window from, to @param {number | null} begins seconds since the epoch
 * @returns {Object<string, string>} by the place where it is shown
 */
export const saidOf = (frame, frames, at, [from, to], begins) => {
  const inside = windowOf(frames, at, from, to);
  const oldest = frame[at.oldest_ms] >= 1000 ? `, the oldest for ${milliseconds(frame[at.oldest_ms])}` : "";
  const mostly = mostFailed(frames, at);
  return {
    at: clock(frame[at.second]) + utcOf(begins, frame[at.second]),
    users: ofPlanned(frame, at),
    states: statesOf(frame, at),
    rate: `${three(endedOf(frame, at))} /s`,
    "rate-more": `window ${three(inside.rate)} /s, ${frame[at.in_flight]} in flight${oldest}`,
    time: `p95 ${milliseconds(frame[at.p95_ms])}`,
    "time-more": `p50 ${milliseconds(frame[at.p50_ms])} · p99 ${milliseconds(frame[at.p99_ms])}`,
    failures: `${failuresOf(frame, at)} /s`,
    "failures-more": `${inside.failures} in the window${mostly ? `, mostly ${mostly}` : ""}`,
    generators: milliseconds(frame[at.late_p99_ms]),
    "generators-more": generatorsOf(frame, at),
  };
};

/** @param {Frame} last @param {Places} at @param {number} duration s @returns {string} how far the run is */
export const nowOf = (last, at, duration) =>
  `${ofPlanned(last, at)} ${(last[at.planned] || usersOf(last, at)) === 1 ? "user" : "users"},` +
  ` ${clock(last[at.second] + 1)} of ${clock(duration)}`;
