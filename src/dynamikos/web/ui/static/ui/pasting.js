// Raw form data pasted into rows of names and values becomes those rows: shown first, and only then put there.
"use strict";
(() => {
  const plain = (text) => {
    try {
      return decodeURIComponent(text.replace(/\+/g, " "));
    } catch {
      return text;
    }
  };
  const encoded = (text) => {
    const query = text.trim().replace(/^[^\s?]*\?/, "");
    if (/\s/.test(query) || !/^[^=&]+=[^&]*(&[^=&]+=?[^&]*)*$/.test(query)) return [];
    return query.split("&").map((part) => {
      const at = part.indexOf("=");
      return at < 0 ? [plain(part), ""] : [plain(part.slice(0, at)), plain(part.slice(at + 1))];
    });
  };
  const lines = (text) => {
    const rows = text
      .trim()
      .split(/\r?\n/)
      .filter((line) => line.trim())
      .map((line) => /^\s*([^:\s][^:]*?)\s*:\s?(.*)$/.exec(line));
    return rows.length && rows.every(Boolean) ? rows.map((row) => [row[1], row[2]]) : [];
  };
  const element = (name, text, look) => {
    const made = document.createElement(name);
    made.textContent = text;
    if (look) made.className = look;
    return made;
  };

  document.addEventListener("paste", (e) => {
    const field = e.target.closest && e.target.closest("[data-rows] .pairs input"),
      rows = field && field.closest("[data-rows]");
    if (!rows) return;
    const text = e.clipboardData.getData("text"),
      found = encoded(text),
      made = found.length ? found : lines(text);
    // a value with = or : in it is a value
    if (!made.length || (made.length === 1 && field.name.endsWith("-value"))) return;
    e.preventDefault();
    const row = rows.querySelector(".pairs:last-child"),
      names = [...row.querySelectorAll("input")].map((each) => each.name);
    const full = () =>
      [...rows.querySelectorAll(".pairs")].filter((each) => [...each.querySelectorAll("input")].some((i) => i.value))
        .length;
    const box = element("div", "", "hint pasted"),
      table = element("table", "", "plain");
    box.setAttribute("role", "group");
    box.setAttribute("aria-label", "What was pasted");
    box.append(
      element("p", `Pasted: ${made.length} ${made.length === 1 ? "field" : "fields"}. Nothing is changed yet.`),
    );
    made.forEach(([name, value]) => {
      const tr = element("tr", "");
      tr.append(element("td", name, "mono small wrap"), element("td", value, "mono small wrap"));
      table.append(tr);
    });
    const put = (replaces) => {
      const old = [...rows.querySelectorAll(".pairs")].filter(
        (each) => replaces || ![...each.querySelectorAll("input")].some((i) => i.value),
      );
      made.concat([["", ""]]).forEach((values) => {
        const copy = row.cloneNode(true);
        [...copy.querySelectorAll("input")].forEach((i, at) => {
          i.value = values[at];
        });
        rows.append(copy);
      });
      old.forEach((each) => each.remove());
      box.remove();
      const first = rows.querySelector("input");
      first.focus();
      first.dispatchEvent(new Event("change", { bubbles: true }));
    };
    const button = (words, go, look) => {
      const made = element("button", words, look || "act small");
      made.type = "button";
      made.addEventListener("click", go);
      return made;
    };
    const buttons = element("p", "", "row");
    if (full())
      buttons.append(
        button(`Replace the ${full()} there`, () => put(true), "act small first"),
        button("Add them", () => put(false)),
      );
    else buttons.append(button("Put them there", () => put(true), "act small first"));
    buttons.append(
      button("Paste as it is", () => {
        box.remove();
        field.focus();
        document.execCommand("insertText", false, text);
      }),
      button("Leave it", () => {
        box.remove();
        field.focus();
      }),
    );
    box.append(table, buttons);
    (rows.parentElement.querySelector(".pasted") || { remove() {} }).remove();
    rows.after(box);
    buttons.querySelector("button").focus();
    if (names.length !== 2) box.remove();
  });
})();
