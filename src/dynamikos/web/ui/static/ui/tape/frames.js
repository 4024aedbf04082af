// A run's live frames, one a second: pure, tested in tests/browser/test_modules.py. Their fields: docs/stream.md.

/** @typedef {any[]} Frame one second; its fields by the places that the server names */
/** @typedef {Object<string, number>} Places name of a field → its place */

/** @param {string[]} fields in order @returns {Places} */
export const placesOf = (fields) => Object.fromEntries(fields.map((name, place) => [name, place]));

/** @param {Frame} frame @param {Places} at @returns {number} users that are there */
export const usersOf = (frame, at) => frame[at.starting] + frame[at.busy] + frame[at.thinking] + frame[at.leaving];

/** @param {Frame} frame @param {Places} at @returns {number} users that wait for an answer, come or go */
export const busyOf = (frame, at) => frame[at.starting] + frame[at.busy] + frame[at.leaving];

/** @param {Frame} frame @param {Places} at @returns {number} exchanges that came to an end */
export const endedOf = (frame, at) => frame[at.answered] + frame[at.failed];

/** @param {Frame} frame @param {Places} at @returns {number} what failed, exchanges or steps */
export const failuresOf = (frame, at) => Math.max(frame[at.failed], frame[at.steps_failed]);

/**
 * What a window holds.
 * @param {Frame[]} frames @param {Places} at @param {number} from @param {number} to seconds
 * @returns {{seconds: number, rate: number, failures: number}} `rate` is exchanges a second
 */
export const windowOf = (frames, at, from, to) => {
  const inside = frames.filter((frame) => frame[at.second] >= from && frame[at.second] < to);
  const lasts = (frame) => frame[at.seconds] || 1;
  const sum = (count) => inside.reduce((total, frame) => total + lasts(frame) * count(frame, at), 0);
  const seconds = sum(() => 1);
  return { seconds, rate: sum(endedOf) / (seconds || 1), failures: Math.round(sum(failuresOf)) };
};

/**
 * The frame that holds a second, or the last one before it.
 * @param {Frame[]} frames in order @param {Places} at @param {number} second @returns {Frame | undefined}
 */
export const frameAt = (frames, at, second) => {
  let low = 0;
  let high = frames.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (frames[middle][at.second] <= second) low = middle;
    else high = middle - 1;
  }
  return frames[low];
};

/** @param {Frame[]} frames @param {Places} at @returns {string} the kind of failure there is most of, or "" */
export const mostFailed = (frames, at) => {
  const counts = new Map();
  for (const frame of frames)
    for (const [kind, count] of Object.entries(frame[at.kinds])) counts.set(kind, (counts.get(kind) || 0) + count);
  const most = [...counts].sort((one, other) => other[1] - one[1])[0];
  return most ? most[0] : "";
};

/** @param {any[]} values @param {number} count @returns {any[]} as many, with null where there is none yet */
export const padded = (values, count) => [...values, ...Array(Math.max(0, count - values.length)).fill(null)];
