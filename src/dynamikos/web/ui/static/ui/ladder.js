// Marks the selected rung or step, keeps the address in step, and offers a new row when the last one is used.
"use strict";
document.addEventListener("click", (e) => {
  const a = e.target.closest("#ladder a[data-at]");
  if (!a) return;
  document.querySelectorAll("#ladder a[aria-current]").forEach((el) => el.removeAttribute("aria-current"));
  a.setAttribute("aria-current", "true");
  history.replaceState(null, "", "?at=" + encodeURIComponent(a.dataset.at));
});
// from the rung that was opened one Tab leads into its panel, and Esc there comes back (frame.js)
let opened = null;
document.addEventListener(
  "click",
  (e) => {
    opened = e.target.closest("#ladder a[data-at]") || (e.target.closest("#panel") ? opened : null);
  },
  true,
);
document.addEventListener("keydown", (e) => {
  if (e.key !== "Tab" || e.shiftKey || !opened || !opened.isConnected) return;
  const now = document.activeElement;
  if (now !== document.body && now !== opened) return;
  const first = [
    ...document.querySelectorAll("#panel input, #panel textarea, #panel select, #panel a[href], #panel button"),
  ].find((el) => el.type !== "hidden" && !el.disabled && el.getClientRects().length);
  if (first) {
    e.preventDefault();
    first.focus();
  }
});
document.addEventListener("input", (e) => {
  const rows = e.target.closest("[data-rows]");
  if (!rows) return;
  const last = rows.lastElementChild;
  if (![...last.querySelectorAll("input:not([type=hidden])")].some((i) => i.value)) return;
  const copy = last.cloneNode(true);
  copy.querySelectorAll("input").forEach((i) => {
    i.value = "";
  });
  rows.append(copy);
});
// a file for a part of a multipart body goes with the journey: read here, sent as base64
document.addEventListener(
  "change",
  (e) => {
    if (!e.target.matches("[data-into-part]") || !e.target.files.length) return;
    const file = e.target.files[0],
      rule = e.target.closest(".rule"),
      reader = new FileReader();
    reader.onload = () => {
      const one = (name) => rule.querySelector("[name=part-" + name + "]");
      one("content").value = reader.result.slice(reader.result.indexOf(",") + 1);
      one("file").value = file.name;
      if (!one("type").value) one("type").value = file.type;
      if (!one("name").value) one("name").value = "file";
      e.target.value = "";
      one("content").setAttribute("data-reload", "");
      one("content").dispatchEvent(new Event("change", { bubbles: true }));
    };
    reader.readAsDataURL(file);
  },
  true,
);
document.addEventListener("input", (e) => {
  // of the values of a JSON body only those that were changed are sent
  if (!e.target.matches("[data-leaf]")) return;
  e.target.name = "leaf-value";
  e.target.closest("tr").querySelector("[name=leaf-path]").disabled = false;
});
document.addEventListener("submit", (e) => {
  const el = e.target.querySelector("[data-parent]");
  if (el) el.value = document.getElementById("parent").value;
});

// a value marked in a recorded body goes into the field beneath it
document.addEventListener("selectionchange", () => {
  const chosen = document.getSelection(),
    node = chosen && chosen.anchorNode,
    pre = node && (node.nodeType === 1 ? node : node.parentElement).closest("pre[data-marking]");
  const text = pre ? chosen.toString().trim() : "";
  if (text && text.length < 2000) {
    const field = pre.parentElement.querySelector("[data-marked]");
    if (field) field.value = text;
  }
});

// choosing several: Ctrl+click adds one, Shift+click all up to it, x adds the one with the focus; the panel then acts
// on all of them
(() => {
  let chosen = [];
  const rungs = () => [...document.querySelectorAll("#ladder[data-edit] a[data-at]")];
  const show = () => {
    rungs().forEach((a) => a.classList.toggle("is-chosen", chosen.includes(a.dataset.at)));
  };
  const ask = () => {
    show();
    if (!chosen.length) return;
    const first = rungs().find((a) => a.dataset.at === chosen[0]);
    if (!first) return;
    const address = first.getAttribute("hx-get").split("?")[0];
    htmx.ajax(
      "GET",
      address + "?at=" + encodeURIComponent(chosen[0]) + chosen.map((at) => "&also=" + encodeURIComponent(at)).join(""),
      { target: "#panel", swap: "innerHTML" },
    );
  };
  const add = (at) => {
    if (!chosen.length) {
      const now = document.querySelector("#ladder a[aria-current]");
      if (now && now.dataset.at !== at) chosen = [now.dataset.at];
    }
    chosen = chosen.includes(at) ? chosen.filter((each) => each !== at) : [...chosen, at];
    ask();
  };
  document.addEventListener(
    "click",
    (e) => {
      const a = e.target.closest && e.target.closest("#ladder[data-edit] a[data-at]");
      if (!a) return;
      if (e.ctrlKey || e.metaKey) {
        e.preventDefault();
        e.stopImmediatePropagation();
        add(a.dataset.at);
        return;
      }
      if (e.shiftKey) {
        e.preventDefault();
        e.stopImmediatePropagation();
        const all = rungs()
          .filter((el) => el.dataset.at.includes("/") === a.dataset.at.includes("/"))
          .sort((x, y) => x.getBoundingClientRect().top - y.getBoundingClientRect().top);
        const last = chosen[chosen.length - 1] || (document.querySelector("#ladder a[aria-current]") || a).dataset.at;
        const from = all.findIndex((el) => el.dataset.at === last),
          to = all.indexOf(a);
        chosen = all.slice(Math.min(from < 0 ? to : from, to), Math.max(from, to) + 1).map((el) => el.dataset.at);
        ask();
        return;
      }
      chosen = [];
      show();
    },
    true,
  );
  document.addEventListener("keydown", (e) => {
    const a =
      document.activeElement &&
      document.activeElement.closest &&
      document.activeElement.closest("#ladder[data-edit] a[data-at]");
    if (e.key === "x" && a && !e.ctrlKey && !e.metaKey) {
      e.preventDefault();
      add(a.dataset.at);
    }
    if (e.key === "Escape" && chosen.length) {
      chosen = [];
      show();
    }
  });
  new MutationObserver((changes) => {
    if (changes.some((c) => [...c.addedNodes].some((n) => n.id === "ladder"))) {
      const there = rungs().map((a) => a.dataset.at);
      chosen = chosen.filter((at) => there.includes(at));
      show();
    }
  }).observe(document.body, { childList: true, subtree: true });
})();
document.addEventListener(
  "change",
  (e) => {
    // another kind of body or proof has other fields: the answer is the whole panel
    if (!e.target.matches("[data-reload]")) return;
    const field = document.createElement("input");
    field.type = "hidden";
    field.name = "reload";
    field.value = "1";
    e.target.form.append(field);
    const named = (name) => [...document.querySelectorAll("#panel [name]")].filter((el) => el.name === name);
    const open = new Set([...document.querySelectorAll("#panel details[open] > summary")].map((el) => el.textContent));
    let name = "",
      at = 0;
    setTimeout(() => {
      const now = document.activeElement;
      name = (now && now.name) || "";
      at = named(name).indexOf(now);
    }, 0);
    const watch = new MutationObserver(() => {
      // the same field has the focus afterwards, the same details are open
      if (document.querySelector("#panel [name=reload]")) return;
      watch.disconnect();
      document.querySelectorAll("#panel details > summary").forEach((el) => {
        if (open.has(el.textContent)) el.parentElement.open = true;
      });
      const same = name && named(name)[at];
      if (same) same.focus();
    });
    watch.observe(document.getElementById("panel"), { childList: true });
  },
  true,
);

// Reordering by drag: drop a step on the step it shall come before, a request on the request, or on a step to become
// its last.
(() => {
  let drag = null,
    dropped = false;
  const over = (e) => {
    const el = document.elementFromPoint(e.clientX, e.clientY);
    const a = el && el.closest("#ladder a[data-at]");
    return a && drag && a !== drag.el && (drag.el.dataset.at.includes("/") || !a.dataset.at.includes("/")) ? a : null;
  };
  const clear = () =>
    document
      .querySelectorAll("#ladder .is-target, #ladder .is-dragged")
      .forEach((el) => el.classList.remove("is-target", "is-dragged"));
  document.addEventListener("dragstart", (e) => {
    if (e.target.closest && e.target.closest("#ladder")) e.preventDefault();
  });
  document.addEventListener("pointerdown", (e) => {
    const a =
      e.button === 0 &&
      !e.ctrlKey &&
      !e.shiftKey &&
      !e.metaKey &&
      e.target.closest &&
      e.target.closest("#ladder[data-edit] a[data-at]");
    drag = a ? { el: a, x: e.clientX, y: e.clientY, moved: false } : null;
  });
  document.addEventListener("pointermove", (e) => {
    if (!drag || !(e.buttons & 1)) return;
    if (!drag.moved && Math.hypot(e.clientX - drag.x, e.clientY - drag.y) < 8) return;
    drag.moved = true;
    clear();
    drag.el.classList.add("is-dragged");
    const to = over(e);
    if (to) to.classList.add("is-target");
  });
  document.addEventListener("pointerup", (e) => {
    if (!drag) return;
    const to = drag.moved ? over(e) : null,
      at = drag.el.dataset.at,
      ladder = document.getElementById("ladder");
    dropped = drag.moved;
    drag = null;
    clear();
    if (to)
      htmx.ajax("POST", ladder.dataset.edit, {
        target: "#panel",
        swap: "innerHTML",
        values: {
          at,
          what: "place",
          before: to.dataset.at,
          parent: document.getElementById("parent").value,
          filter: (document.querySelector(".sieve input") || { value: "" }).value,
        },
      });
    setTimeout(() => {
      dropped = false;
    }, 0);
  });
  document.addEventListener(
    "click",
    (e) => {
      if (dropped && e.target.closest("#ladder")) {
        e.preventDefault();
        e.stopImmediatePropagation();
      }
    },
    true,
  );
  document.addEventListener("keydown", (e) => {
    if (e.key === "Escape" && drag) {
      drag = null;
      clear();
    }
  });
})();
