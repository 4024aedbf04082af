// What is typed is kept: forms that save themselves within a second, what is unsaved when a page is left, and texts
// that wait for their button.
"use strict";
(() => {
  const PAUSE_MS = 350,
    MOST_SENT = 60000; // a browser sends about 64 kB for a page that is being left
  const tab = Math.random().toString(36).slice(2, 12);
  const key = () => (document.querySelector("meta[name=form-key]") || {}).content || "";
  document.documentElement.dataset.tab = tab;
  const all = (q, root) => [...(root || document).querySelectorAll(q)];

  document.addEventListener("htmx:config:request", (e) => {
    if (!e.detail.ctx) return;
    Object.assign(e.detail.ctx.request.headers, { "X-CSRFToken": key(), "X-Tab": tab });
  });

  // forms that save themselves ----------------------------------------------------------------------
  const told = (value) => (value instanceof File ? `${value.name}/${value.size}` : value);
  const serial = (form) => JSON.stringify([...new FormData(form)].map(([name, value]) => [name, told(value)]));
  const states = new WeakMap(),
    dirty = new Set();
  const save = (form) => {
    const state = states.get(form);
    if (!state) return;
    clearTimeout(state.timer);
    state.timer = 0;
    const now = serial(form);
    if (now === state.sent || !form.isConnected) return;
    state.sent = now;
    htmx.trigger(form, "save");
  };
  const touched = (e, pause) => {
    const form = e.target.form || (e.target.closest && e.target.closest("form"));
    if (!form || !form.matches("[data-saves]")) return;
    const state = states.get(form) || { timer: 0, sent: "" };
    states.set(form, state);
    dirty.add(form);
    clearTimeout(state.timer);
    state.timer = setTimeout(() => save(form), pause);
  };
  document.addEventListener("input", (e) => touched(e, PAUSE_MS));
  document.addEventListener("change", (e) => touched(e, 0));
  document.addEventListener("htmx:after:request", (e) => {
    const ctx = e.detail.ctx,
      form = ctx && ctx.sourceElement,
      state = form && states.get(form);
    if (!state) return;
    const status = ctx.response ? ctx.response.status : 0;
    if (status >= 200 && status < 400) {
      if (serial(form) === state.sent) dirty.delete(form);
      forget(form);
    }
    if (status === 409) {
      dirty.delete(form); // leaving must not send it once more, over what somebody else had kept
      setTimeout(refused, 0);
    }
    if (status === 422) remember(form); // can't be kept by the server yet: it survives a reload all the same
    if (!status || status >= 500) {
      state.sent = "";
      clearTimeout(state.timer);
      state.timer = setTimeout(() => save(form), 3000);
    }
  });
  document.addEventListener("htmx:error", (e) => {
    const form = e.detail.ctx && e.detail.ctx.sourceElement,
      state = form && states.get(form);
    if (!state) return;
    state.sent = "";
    clearTimeout(state.timer);
    state.timer = setTimeout(() => save(form), 3000); // tried again until it is kept
  });

  // nothing typed is lost by leaving: links and buttons wait until it is saved; a page that goes sends what it has
  let saving = 0;
  const send = window.fetch.bind(window);
  window.fetch = (what, how) => {
    const method = ((how && how.method) || (what && what.method) || "GET").toUpperCase();
    // asking what something comes to saves nothing
    const asks = String((what && what.url) || what).endsWith("/evaluate");
    if (method === "GET" || asks) return send(what, how);
    saving++;
    return send(what, how).finally(() => {
      saving--;
    });
  };
  const flush = () => dirty.forEach(save);
  const later = (go) => {
    const end = performance.now() + 5000;
    const look = () => (saving > 0 && performance.now() < end ? setTimeout(look, 20) : setTimeout(go, 30));
    setTimeout(look, 20);
  };
  // what was clicked may have been made anew by what was saved meanwhile: then its successor is meant
  const now = (el) => {
    if (el.isConnected) return el;
    const same = (name) => (other) => other.getAttribute(name) === el.getAttribute(name);
    const marks = ["data-command", "href", "name", "value"].map(same);
    const alike = all(el.tagName).filter((other) => marks.every((is) => is(other)));
    const words = el.textContent.replace(/\s+/g, " ").trim();
    return alike.find((other) => other.textContent.replace(/\s+/g, " ").trim() === words);
  };
  document.addEventListener(
    "click",
    (e) => {
      const el = e.target.closest("a[href], form:not([data-saves]) button");
      if (!el || el.closest("[data-rows]") || el.dataset.waited || e.ctrlKey || e.metaKey) return;
      const waiting =
        saving > 0 || [...dirty].some((form) => form.isConnected && serial(form) !== states.get(form).sent);
      if (!waiting) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      flush();
      later(() => {
        const there = now(el);
        if (!there) return;
        there.dataset.waited = "1";
        if (there.click) there.click();
        // rungs are SVG
        else there.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true, view: window }));
        delete there.dataset.waited;
      });
    },
    true,
  );
  const included = (form) => {
    const data = new FormData(form),
      more = form.getAttribute("hx-include");
    if (more)
      all(more).forEach((el) => {
        if (el.name && !data.has(el.name)) data.append(el.name, el.value);
      });
    return data;
  };
  window.addEventListener("pagehide", () => {
    dirty.forEach((form) => {
      if (!form.isConnected) return;
      sessionStorage.setItem("left", location.pathname);
      const headers = { "X-CSRFToken": key(), "X-Tab": tab, "HX-Request": "true" };
      send(form.getAttribute("hx-post"), { method: "POST", keepalive: true, headers, body: included(form) });
    });
  });
  window.addEventListener("beforeunload", (e) => {
    if ([...dirty].some((form) => serial(form).length > MOST_SENT)) e.preventDefault();
  });
  if (sessionStorage.getItem("left") === location.pathname) {
    // this page may have been made before its fields were kept
    const shown = (page) =>
      all("#parent, form[data-saves] [name]", page)
        .map((el) => el.getAttribute("value") || el.textContent)
        .join();
    sessionStorage.removeItem("left");
    const look = async () => {
      const page = new DOMParser().parseFromString(await (await send(location.href)).text(), "text/html");
      if (!dirty.size && shown(page) !== shown(document)) location.reload();
    };
    [300, 1000, 2500].forEach((wait) => setTimeout(look, wait)); // as soon as the server had time for it
  }

  // a text that waits for its button survives a reload, in this tab; secrets never do
  const place = (el) => {
    const form = el.form,
      what = form && form.querySelector("[name=what]");
    if (!form || form.matches("[role=search], [autocomplete=off]")) return null;
    if (
      el.matches(
        "[type=hidden], [type=password], [type=file], [type=checkbox], [type=radio], [readonly], [data-editor]",
      )
    )
      return null;
    const to = form.getAttribute("hx-post") || form.getAttribute("action") || "";
    const at = [...form.elements].filter((each) => each.name === el.name).indexOf(el);
    return ["typed", location.pathname, to, what ? what.value : "", el.name, at].join("|");
  };
  const keep = (el) => {
    const at = el.name && place(el);
    if (at) sessionStorage.setItem(at, el.value);
  };
  const remember = (form) =>
    [...form.elements].filter((el) => el.value !== el.defaultValue && el.matches("input, textarea")).forEach(keep);
  document.addEventListener("input", (e) => {
    // of a form that saves itself only what was refused before: the newest of it
    const form = e.target.form,
      at = form && e.target.name && place(e.target);
    if (at && (!form.matches("[data-saves]") || sessionStorage.getItem(at) !== null)) keep(e.target);
  });
  const restore = () => {
    if (![...Object.keys(sessionStorage)].some((each) => each.startsWith("typed|" + location.pathname + "|"))) return;
    all("form [name]").forEach((el) => {
      const at = place(el),
        text = at && sessionStorage.getItem(at);
      if (text !== null && text !== undefined && el.value !== text) {
        el.value = text;
        el.dispatchEvent(new Event("input", { bubbles: true }));
      }
    });
  };
  const forget = (form) =>
    [...form.elements].forEach((el) => {
      const at = el.name && place(el);
      if (at) sessionStorage.removeItem(at);
    });
  document.addEventListener(
    "submit",
    (e) => {
      if (e.target.matches("[action*='sign-out']"))
        sessionStorage.clear(); // what one person typed is not the next one's
      else if (!e.target.matches("[data-saves]")) forget(e.target);
    },
    true,
  );
  // what came too late, because somebody had changed the same meanwhile, can be read again after a reload
  const late = () => "late|" + location.pathname;
  const refused = () => {
    const texts = all("[data-refused] pre").map((el) => el.textContent.trim());
    if (texts.length) sessionStorage.setItem(late(), texts.join("\n"));
  };
  const readAgain = () => {
    const text = sessionStorage.getItem(late());
    const into = document.querySelector("#panel-says, #plan-says");
    if (text === null || !into) return;
    const box = document.createElement("div");
    const says = document.createElement("p");
    const what = document.createElement("pre");
    const done = document.createElement("button");
    box.className = "problem";
    says.textContent = "You typed this before the page was loaded again. It is not in what you see here:";
    what.textContent = text;
    done.type = "button";
    done.textContent = "I don't need it any more";
    done.addEventListener("click", () => {
      sessionStorage.removeItem(late());
      box.remove();
    });
    box.append(says, what, done);
    into.before(box);
  };
  document.addEventListener("DOMContentLoaded", readAgain);
  document.addEventListener("DOMContentLoaded", restore);
  document.addEventListener("htmx:after:swap", restore);
})();
