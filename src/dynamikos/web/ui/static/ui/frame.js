// The frame of every page: the command field, the keys of the current view, the theme, and upload with progress.
"use strict";
(() => {
  const $ = (q, root) => (root || document).querySelector(q);
  const all = (q, root) => [...(root || document).querySelectorAll(q)];
  const typing = (e) => {
    const el = e.composedPath()[0] || e.target;
    return /^(INPUT|TEXTAREA|SELECT)$/.test(el.tagName) || el.isContentEditable;
  };

  // htmx would take the page in a moment after it has loaded: what is pressed before that would be lost or load the
  // whole page. So it takes it in now, before the browser says that the page is there; it does so once.
  document.addEventListener("DOMContentLoaded", () => window.htmx.initialize());

  // command field --------------------------------------------------------------------------------
  const field = $("#command-field");
  const entries = () =>
    all("[data-command]")
      .filter((el) => !el.closest("dialog"))
      .map((el) => ({ name: el.dataset.command || el.textContent.trim(), el }))
      .concat(all(".spine a.place").map((el) => ({ name: "Go to " + el.dataset.name, el })));
  let here = 0;
  const list = () => {
    const words = $("input", field).value.toLowerCase().split(/\s+/).filter(Boolean);
    const found = entries().filter((entry) => words.every((word) => entry.name.toLowerCase().includes(word)));
    here = Math.max(0, Math.min(here, found.length - 1));
    const ul = $("ul", field);
    ul.replaceChildren(
      ...found.map((entry, i) => {
        const li = document.createElement("li"),
          a = document.createElement("a");
        a.href = "#";
        a.textContent = entry.name;
        a.className = i === here ? "is-here" : "";
        a.addEventListener("click", (e) => {
          e.preventDefault();
          field.close();
          entry.el.focus();
          entry.el.click();
        });
        li.append(a);
        return li;
      }),
    );
    if (!found.length) {
      const li = document.createElement("li");
      li.textContent = "Nothing here has such a name.";
      ul.append(li);
    }
  };
  const open = () => {
    if (field) {
      $("input", field).value = "";
      here = 0;
      list();
      field.showModal();
      $("input", field).focus();
    }
  };
  if (field) {
    $("input", field).addEventListener("input", () => {
      here = 0;
      list();
    });
    $("input", field).addEventListener("keydown", (e) => {
      if (e.key === "ArrowDown" || e.key === "ArrowUp") {
        here += e.key === "ArrowDown" ? 1 : -1;
        list();
        e.preventDefault();
      }
      if (e.key === "Enter") {
        e.preventDefault();
        const a = $("a.is-here", field);
        if (a) a.click();
      }
    });
  }
  const help = $("#key-help");
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey && e.key.toLowerCase() === "k") {
      e.preventDefault();
      open();
      return;
    }
    if (
      e.key === "Escape" &&
      typing(e) &&
      !document.querySelector("dialog[open]") &&
      e.target.blur &&
      !e.target.closest(".editor")
    ) {
      const panel = e.target.closest("#panel"),
        rung = panel && document.querySelector("#ladder a[aria-current]");
      if (rung) rung.focus();
      else e.target.blur(); // letters are keys again
      return;
    }
    if (
      typing(e) ||
      e.ctrlKey ||
      e.metaKey ||
      (e.altKey && !/Arrow/.test(e.key)) ||
      document.querySelector("dialog[open]")
    )
      return;
    if (e.key === "/") {
      e.preventDefault();
      open();
      return;
    }
    if (e.key === "?" && help) {
      const rows = all("[data-key]").map((el) => [el.dataset.key, el.dataset.command || el.textContent.trim()]);
      rows.push(
        ["j / k", "Next or previous in the list or ladder"],
        ["Enter", "Open it"],
        ["/ or Ctrl+K", "Command field"],
        ["Esc", "Close; leave a field, so that letters are keys again"],
      );
      $("tbody", help).replaceChildren(
        ...rows.map(([key, name]) => {
          const tr = document.createElement("tr");
          tr.innerHTML = "<td class='mono'></td><td></td>";
          tr.cells[0].textContent = key;
          tr.cells[1].textContent = name;
          return tr;
        }),
      );
      help.showModal();
      return;
    }
    if (e.key === "j" || e.key === "k") {
      const items = all("[data-walk] a, a[data-walk]");
      if (!items.length) return;
      let at = items.indexOf(document.activeElement);
      if (at < 0) at = items.findIndex((el) => el.getAttribute("aria-current"));
      const to = items[Math.max(0, Math.min(items.length - 1, at + (e.key === "j" ? 1 : -1)))];
      to.focus();
      to.scrollIntoView && to.scrollIntoView({ block: "nearest" });
      e.preventDefault();
      return;
    }
    const target = all("[data-key]").find((el) => el.dataset.key === (e.altKey ? "Alt+" : "") + e.key && !el.disabled);
    if (target) {
      e.preventDefault();
      target.click();
    }
  });
  document.addEventListener("click", (e) => {
    const el = e.target.closest("[data-do]");
    if (!el) return;
    if (el.dataset.do === "theme") {
      const night = document.documentElement.dataset.theme === "night";
      document.cookie = "dynamikos-theme=" + (night ? "paper" : "night") + ";path=/;max-age=31536000;samesite=lax";
      location.reload();
    }
    if (el.dataset.do === "field") open();
    if (el.dataset.do === "close") el.closest("dialog").close();
    if (el.dataset.do === "toggle") {
      const t = document.getElementById(el.dataset.target);
      t.hidden = !t.hidden;
      el.setAttribute("aria-expanded", String(!t.hidden));
    }
    if (el.dataset.do === "add-row") {
      const last = el.previousElementSibling,
        copy = last.cloneNode(true);
      all("input,textarea", copy).forEach((i) => {
        i.value = "";
      });
      last.after(copy);
      const first = $("input,select", copy);
      if (first) first.focus();
    }
  });

  // uploads: progress of sending, then of reading --------------------------------------------------
  document.addEventListener("submit", (e) => {
    const form = e.target.closest("form[data-upload]");
    if (!form) return;
    e.preventDefault();
    const place = form.dataset.upload ? $(form.dataset.upload) : form; // where the bar, the words and Stop are
    const bar = $("progress", place),
      says = $("[data-says]", place),
      ask = new XMLHttpRequest(),
      cancel = $("[data-cancel]", place),
      sends = $("input[type=file]", form);
    const buttons = () => (place === form ? all("button:not([data-cancel])", form) : all("form[data-upload] button"));
    let seen = 0;
    const over = (text) => {
      says.textContent = text;
      says.className = "problem";
      bar.hidden = true;
      if (cancel) cancel.hidden = true;
      buttons().forEach((b) => {
        b.disabled = false;
      });
    };
    place.hidden = false;
    bar.hidden = false;
    bar.value = 0;
    says.className = "small faded";
    says.textContent = form.dataset.doing || "Sending the file";
    if (cancel) {
      cancel.hidden = false;
      cancel.onclick = () => {
        ask.abort();
        over("Stopped. Nothing was changed.");
      };
    }
    const data = new FormData(form, e.submitter);
    buttons().forEach((b) => {
      b.disabled = true;
    });
    if (place !== form) place.scrollIntoView({ block: "nearest" });
    ask.upload.onprogress = (p) => {
      if (sends) bar.value = p.lengthComputable ? p.loaded / p.total / 2 : 0.1;
    };
    const read = () => {
      const text = ask.responseText,
        end = text.lastIndexOf("\n") + 1;
      for (const line of text.slice(seen, end).split("\n")) {
        if (line.startsWith("progress ")) {
          const share = Number(line.slice(9));
          bar.value = sends ? 0.5 + share / 2 : share;
          says.textContent = form.dataset.doing || "Reading the file";
        }
        if (line.startsWith("done ")) location.assign(line.slice(5));
        if (line.startsWith("error ")) over(line.slice(6));
      }
      seen = end;
    };
    ask.onprogress = () => {
      if (ask.status === 200) read();
    };
    ask.onload = () => {
      if (ask.status === 200) read();
      else {
        const page = new DOMParser().parseFromString(ask.responseText, "text/html");
        const p = page.querySelector(".problem");
        over(p ? p.textContent.trim() : "The server answered " + ask.status + ".");
      }
    };
    ask.onerror = () => over("The connection to Dynamikos broke off. Is it still running? Nothing was imported.");
    ask.open("POST", form.action);
    ask.setRequestHeader("HX-Request", "true");
    ask.send(data);
  });
  document.addEventListener("change", (e) => {
    if (e.target.matches("[data-submit-on-change]")) e.target.form.requestSubmit();
  });
})();
