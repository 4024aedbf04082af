// Figures as the tape writes them: pure, tested in tests/browser/test_modules.py.

/** @param {number} seconds @returns {string} minutes and seconds on the run's clock */
export const clock = (seconds) => {
  const two = (value) => String(Math.floor(value)).padStart(2, "0");
  return two(seconds / 60) + ":" + two(seconds % 60);
};

/** @param {number} value @returns {string} three digits that count, thousands parted */
export const three = (value) =>
  value >= 1000 ? Math.round(value).toLocaleString("en") : String(Number(value.toPrecision(3)));

/** @param {number | null | undefined} value in ms @returns {string} with its unit */
export const milliseconds = (value) => {
  if (value == null) return "–";
  return value >= 999.5 ? Number((value / 1000).toPrecision(3)) + " s" : Number(value.toPrecision(3)) + " ms";
};

/**
 * Where a logarithmic axis is marked: powers of ten, and between them 2 and 5 where there is room.
 * @param {number} low @param {number} high both above 0 @returns {number[]}
 */
export const decades = (low, high) => {
  const steps = high / low > 60 ? [1] : [1, 2, 5];
  const marks = [];
  for (let power = Math.floor(Math.log10(low)); power <= Math.log10(high); power++)
    for (const step of steps) {
      const value = step * 10 ** power;
      if (value >= low && value <= high) marks.push(value);
    }
  return marks;
};
