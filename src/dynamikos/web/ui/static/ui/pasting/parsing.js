// Raw form data as rows of a name and a value.

const plain = (text) => {
  try {
    return decodeURIComponent(text.replace(/\+/g, " "));
  } catch {
    return text;
  }
};

/** `a=1&b=2`, with or without an address in front. @param {string} text @returns {string[][]} */
const encoded = (text) => {
  const query = text.trim().replace(/^[^\s?]*\?/, "");
  if (/\s/.test(query) || !/^[^=&]+=[^&]*(&[^=&]+=?[^&]*)*$/.test(query)) return [];
  return query.split("&").map((part) => {
    const at = part.indexOf("=");
    return at < 0 ? [plain(part), ""] : [plain(part.slice(0, at)), plain(part.slice(at + 1))];
  });
};

/** `name: value` lines, as a browser shows them. @param {string} text @returns {string[][]} */
const lines = (text) => {
  const rows = text
    .trim()
    .split(/\r?\n/)
    .filter((line) => line.trim())
    .map((line) => /^\s*([^:\s][^:]*?)\s*:\s?(.*)$/.exec(line));
  return rows.length && rows.every(Boolean) ? rows.map((row) => [row[1], row[2]]) : [];
};

/** Rows of a name and a value; none when the text is neither. @param {string} text @returns {string[][]} */
export const rowsIn = (text) => {
  const found = encoded(text);
  return found.length ? found : lines(text);
};
