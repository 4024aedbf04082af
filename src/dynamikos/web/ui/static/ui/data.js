// Cells are kept as they are typed; the field of a masked one is empty while it is typed in.
"use strict";
(() => {
  const table = document.querySelector("[data-cells]"),
    says = document.getElementById("cell-says");
  if (table) {
    const waiting = new Map(),
      sending = new Map();
    const key = document.querySelector("meta[name=form-key]").content;
    const tell = (text, bad) => {
      says.textContent = text;
      says.className = "small " + (bad ? "bad" : "faded");
    };
    const save = (input) => {
      clearTimeout(waiting.get(input));
      waiting.delete(input);
      const text = input.value;
      if (text === input.dataset.kept) return;
      if (sending.has(input)) {
        sending.get(input).again = true;
        return;
      }
      const state = { again: false };
      sending.set(input, state);
      const data = new URLSearchParams({ row: input.closest("tr").dataset.row, column: input.dataset.column, text });
      if (!("hidden" in input.dataset)) data.set("old", input.dataset.kept);
      tell("saving");
      fetch(table.dataset.cells, {
        method: "POST",
        body: data,
        keepalive: data.toString().length < 60000,
        headers: { "X-CSRFToken": key },
      })
        .then(async (answer) => {
          const found = await answer.json().catch(() => ({ problem: "The server answered " + answer.status + "." }));
          if (answer.ok) {
            input.dataset.kept = text;
            input.classList.remove("is-wrong");
            tell("saved");
          } else {
            input.classList.add("is-wrong");
            tell(found.problem || "not saved", true);
          }
        })
        .catch(() => {
          input.classList.add("is-wrong");
          tell(
            "Not saved: the connection to Dynamikos broke off. The text stays in its cell; type on to try again.",
            true,
          );
        })
        .finally(() => {
          sending.delete(input);
          if (state.again) save(input);
        });
    };
    table.querySelectorAll("input[data-column]").forEach((input) => {
      input.dataset.kept = input.value;
    });
    table.addEventListener("input", (e) => {
      const el = e.target;
      if (!el.dataset.column) return;
      clearTimeout(waiting.get(el));
      waiting.set(
        el,
        setTimeout(() => save(el), 250),
      );
    });
    table.addEventListener("change", (e) => {
      if (e.target.dataset.column) save(e.target);
    });
    table.addEventListener("paste", (e) => {
      // several cells at once, as a spreadsheet copies them
      const el = e.target,
        text = e.clipboardData.getData("text/plain");
      if (!el.dataset.column || !/[\t\n]/.test(text.replace(/\r?\n$/, ""))) return;
      e.preventDefault();
      // rows that were found do not stand beneath each other in the table
      const find = document.querySelector("input[name=find]");
      if (find && find.defaultValue && /\n/.test(text.replace(/\r?\n$/, ""))) {
        tell("Several rows are pasted into the whole table, not among found ones: press All rows first.", true);
        return;
      }
      flush();
      tell("pasting");
      fetch(table.dataset.cells, {
        method: "POST",
        body: new URLSearchParams({ row: el.closest("tr").dataset.row, column: el.dataset.column, block: text }),
        headers: { "X-CSRFToken": key },
      })
        .then(async (answer) => {
          const found = await answer.json().catch(() => ({ problem: "The server answered " + answer.status + "." }));
          if (answer.ok) location.assign(found.address);
          else tell(found.problem, true);
        })
        .catch(() => tell("Not pasted: the connection to Dynamikos broke off. Nothing was changed.", true));
    });
    table.addEventListener("focusin", (e) => {
      if ("hidden" in e.target.dataset && e.target.value === "•••••") {
        e.target.value = "";
      }
    });
    table.addEventListener("focusout", (e) => {
      const el = e.target;
      if ("hidden" in el.dataset && el.value === "" && el.dataset.kept === "•••••") {
        clearTimeout(waiting.get(el));
        waiting.delete(el);
        el.value = "•••••";
      }
    });
    table.addEventListener("keydown", (e) => {
      if (!/^(ArrowUp|ArrowDown|Enter)$/.test(e.key) || !e.target.dataset.column) return;
      const row = e.target.closest("tr"),
        other = e.key === "ArrowUp" ? row.previousElementSibling : row.nextElementSibling;
      const to = other && other.querySelector('[data-column="' + CSS.escape(e.target.dataset.column) + '"]');
      if (to) {
        to.focus();
        to.select();
        e.preventDefault();
      }
    });
    const flush = () => waiting.forEach((_, input) => save(input));
    addEventListener("pagehide", flush);
    document.addEventListener("visibilitychange", () => {
      if (document.hidden) flush();
    });
    document.addEventListener("pointerdown", flush, true);
  }
  document.querySelectorAll("[data-make]").forEach((form) => {
    const kind = form.querySelector("[name=make]");
    const show = () =>
      form.querySelectorAll("[data-for]").forEach((el) => {
        el.hidden = !el.dataset.for.split(" ").includes(kind.value);
      });
    kind.addEventListener("change", show);
    show();
  });
})();
