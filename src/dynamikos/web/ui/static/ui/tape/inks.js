// The inks of the page, as a drawing needs them.

/** @param {string} name of a variable of the style @returns {string} its colour */
export const ink = (name) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/** @param {string} name @param {number} share 0 to 1 @returns {string} the ink, thinned */
export const thinned = (name, share) => {
  const hex = ink(name).replace("#", "");
  const parts = [0, 2, 4].map((place) => parseInt(hex.slice(place, place + 2), 16));
  return `rgba(${parts.join(",")},${share})`;
};
