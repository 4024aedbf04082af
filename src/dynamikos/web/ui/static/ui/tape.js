// The tape: lanes on one run clock, one crosshair, a window that the tables follow. Frames: docs/stream.md.
"use strict";
(() => {
  const tape = document.getElementById("tape");
  if (!tape) return;
  const given = JSON.parse(document.getElementById("tape-data").textContent);
  const ink = (name) =>
    getComputedStyle(document.documentElement)
      .getPropertyValue("--" + name)
      .trim();
  const says = Object.fromEntries([...tape.querySelectorAll("[data-says]")].map((el) => [el.dataset.says, el]));
  const clock = (s) => String(Math.floor(s / 60)).padStart(2, "0") + ":" + String(Math.floor(s % 60)).padStart(2, "0");
  const three = (v) => (v >= 1000 ? Math.round(v).toLocaleString("en") : String(Number(v.toPrecision(3))));
  const ms = (v) =>
    v == null ? "–" : v >= 999.5 ? Number((v / 1000).toPrecision(3)) + " s" : Number(v.toPrecision(3)) + " ms";
  // places of a frame's fields, as the server names them (core.reports.frames)
  const F = Object.fromEntries(given.fields.map((name, place) => [name, place]));
  const frames = given.frames,
    planned = given.planned;
  let end = Math.max(given.duration, frames.length);
  let from = Number(tape.dataset.from),
    to = Number(tape.dataset.to),
    at = given.over && frames.length ? Math.max(0, Math.min(frames.length, to) - 1) : null,
    lanes = [];

  const column = (index) => frames.map((f) => f[index]);
  const seconds = () => Array.from({ length: Math.max(planned.length, frames.length) }, (_, i) => i);
  const pad = (values) => {
    const n = Math.max(planned.length, frames.length);
    while (values.length < n) values.push(null);
    return values;
  };
  const kindsOf = () => {
    const t = {};
    for (const f of frames) for (const [k, n] of Object.entries(f[F.kinds])) t[k] = (t[k] || 0) + n;
    return t;
  };

  const axis = (extra) =>
    Object.assign(
      {
        stroke: ink("faded"),
        grid: { stroke: ink("ruling"), width: 1 },
        ticks: { show: false },
        font: "11px Recursive",
        size: 52,
        gap: 4,
        space: 16,
      },
      extra,
    );
  const base = (height, series, y, more) =>
    Object.assign(
      {
        width: 100,
        height,
        padding: [8, 20, more && more.clock ? 0 : 8, 0],
        legend: { show: false },
        cursor: {
          sync: { key: "tape", setSeries: false },
          y: false,
          points: { show: false },
          drag: { x: true, y: false, setScale: false },
        },
        scales: { x: { time: false, range: () => [0, end] }, y },
        axes: [
          axis({
            space: 60,
            size: more && more.clock ? 20 : 0,
            values: (u, v) => (more && more.clock ? v.map(clock) : v.map(() => "")),
            incrs: [1, 5, 10, 30, 60, 120, 300, 600, 1800, 3600, 7200],
          }),
          axis((more && more.y) || {}),
        ],
        series: [{}, ...series],
        hooks: { setSelect: [(u) => selected(u)], setCursor: [(u) => pointed(u)], draw: (more && more.draw) || [] },
      },
      more && more.bands ? { bands: more.bands } : {},
    );
  const line = (color, width, extra) =>
    Object.assign({ stroke: ink(color), width, points: { show: false }, spanGaps: false }, extra || {});
  const alpha = (color, a) => {
    const h = ink(color).replace("#", "");
    return "rgba(" + [0, 2, 4].map((i) => parseInt(h.slice(i, i + 2), 16)).join(",") + "," + a + ")";
  };
  const decades = (low, high) => {
    const out = [],
      wide = high / low > 60;
    for (let p = Math.floor(Math.log10(low)); p <= Math.log10(high); p++)
      for (const m of wide ? [1] : [1, 2, 5]) {
        const v = m * 10 ** p;
        if (v >= low && v <= high) out.push(v);
      }
    return out;
  };
  const fromZero = { range: (u, low, high) => [0, Math.max(1, (high || 1) * 1.1)] };

  const lateMarks = (u) => {
    // seconds in which a generator was late, marked by hatching
    const c = u.ctx;
    c.save();
    c.fillStyle = alpha("plum", 0.28);
    for (const f of frames)
      if (f[F.is_late]) {
        const x = u.valToPos(f[F.second], "x", true),
          w = Math.max(2, u.valToPos(f[F.second] + 1, "x", true) - x);
        c.fillRect(x, u.bbox.top, w, u.bbox.height);
      }
    c.restore();
  };
  const limitLine = (u) => {
    if (given.limit == null) return;
    const c = u.ctx,
      y = u.valToPos(given.limit, "y", true);
    if (y < u.bbox.top || y > u.bbox.top + u.bbox.height) return;
    c.save();
    c.strokeStyle = ink("ink");
    c.setLineDash([3, 3]);
    c.beginPath();
    c.moveTo(u.bbox.left, y);
    c.lineTo(u.bbox.left + u.bbox.width, y);
    c.stroke();
    c.fillStyle = ink("ink");
    c.font = Math.round(11 * devicePixelRatio) + "px Recursive";
    c.textAlign = "right";
    const words = "objective p95 ≤ " + ms(given.limit),
      wide = c.measureText(words).width,
      x = u.bbox.left + u.bbox.width - 4;
    c.fillStyle = ink("raised");
    c.fillRect(x - wide - 3, y - 17 * devicePixelRatio, wide + 6, 15 * devicePixelRatio);
    c.fillStyle = ink("ink");
    c.fillText(words, x, y - 5 * devicePixelRatio);
    c.restore();
  };
  const measuredMark = (u) => {
    const c = u.ctx,
      a = u.valToPos(given.measured[0], "x", true),
      b = u.valToPos(given.measured[1], "x", true);
    c.save();
    c.fillStyle = ink("ink");
    c.fillRect(a, u.bbox.top + u.bbox.height - 3 * devicePixelRatio, b - a, 3 * devicePixelRatio);
    c.restore();
  };
  const data = {
    users: () => [
      seconds(),
      planned.concat(Array(Math.max(0, frames.length - planned.length)).fill(0)),
      pad(frames.map((f) => f[F.starting] + f[F.busy] + f[F.thinking] + f[F.leaving])),
      pad(frames.map((f) => f[F.starting] + f[F.busy] + f[F.leaving])),
    ],
    // answered and failed: what was sent and came to an end
    rate: () => [seconds(), pad(frames.map((f) => f[F.answered] + f[F.failed]))],
    time: () => [seconds(), pad(column(F.p95_ms)), pad(column(F.p50_ms)), pad(column(F.p99_ms))],
    failures: () => [
      seconds(),
      pad(frames.map((f) => (f[F.failed] + f[F.steps_failed] > 0 ? Math.max(f[F.failed], f[F.steps_failed]) : null))),
    ],
    generators: () => [seconds(), pad(column(F.late_p99_ms))],
  };
  const options = {
    users: () =>
      base(
        96,
        [
          line("ochre-line", 1.5, { dash: [4, 4] }),
          line("ochre-line", 2, { fill: alpha("ochre-line", 0.18) }),
          line("ochre-line", 0, { fill: alpha("ochre-line", 0.34) }),
        ],
        fromZero,
        { clock: false, y: { incrs: [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000] } },
      ),
    rate: () =>
      base(70, [line("ink", 1.4)], fromZero, { y: { incrs: [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000] } }),
    time: () =>
      base(
        140,
        [line("indigo", 1.8), line("indigo", 1.2, { dash: [1, 2] }), line("indigo", 0.8)],
        {
          distr: 3,
          range: (u, low, high) => [
            Math.max(0.5, (low || 10) * 0.7),
            Math.max((high || 100) * 1.5, (given.limit || 0) * 1.4),
          ],
        },
        {
          bands: [{ series: [1, 2], fill: alpha("indigo", 0.2) }],
          draw: [limitLine],
          y: {
            splits: (u) => decades(u.scales.y.min, u.scales.y.max),
            filter: (u, v) => v,
            values: (u, v) => v.map(ms),
          },
        },
      ),
    failures: () =>
      base(
        48,
        [line("madder", 0, { fill: ink("madder"), paths: uPlot.paths.bars({ size: [0.9, 8, 2], align: 1 }) })],
        fromZero,
        { y: { splits: (u) => [0, Math.round(u.scales.y.max || 1)] } },
      ),
    generators: () =>
      base(
        76,
        [line("plum", 1.4)],
        { range: (u, low, high) => [0, Math.max(12, (high || 1) * 1.1)] },
        { clock: true, draw: [lateMarks, measuredMark], y: { values: (u, v) => v.map((x) => x + " ms") } },
      ),
  };
  const build = () => {
    lanes = [...tape.querySelectorAll("[data-lane]")].map((box) => {
      const made = options[box.dataset.lane]();
      made.width = box.clientWidth;
      made.axes[1].size = 64;
      box.replaceChildren();
      const plot = new uPlot(made, data[box.dataset.lane](), box);
      plot.lane = box.dataset.lane;
      return plot;
    });
    setTimeout(mark, 0);
  };
  let marking = false;
  const mark = () => {
    // the window, in every lane
    marking = true;
    for (const u of lanes) {
      const a = u.valToPos(from, "x"),
        b = u.valToPos(Math.min(to, end), "x");
      u.setSelect({ left: a, width: Math.max(0, b - a), top: 0, height: u.over.clientHeight }, false);
    }
    marking = false;
  };
  const selected = (u) => {
    if (marking || u.select.width < 3) {
      if (!marking) mark();
      return;
    }
    const a = Math.max(0, Math.floor(u.posToVal(u.select.left, "x"))),
      b = Math.ceil(u.posToVal(u.select.left + u.select.width, "x"));
    setWindow(a, Math.max(a + 1, b));
  };
  const setWindow = (a, b) => {
    from = a;
    to = b;
    mark();
    tables();
    tell();
  };
  let asked = 0;
  const tables = () => {
    const mine = ++asked;
    const { sort, down } = document.getElementById("rows").dataset;
    fetch(`${tape.dataset.tables}?from=${from}&to=${to}&sort=${sort}&down=${down}`, { credentials: "same-origin" })
      .then((r) => (r.ok ? r.text() : null))
      .then((html) => {
        if (html && mine === asked) {
          const box = document.getElementById("tables");
          carrying(box, () => {
            box.innerHTML = html;
            htmx.process(box);
          });
          tape.dataset.redrawn = String(mine);
        }
      });
  };
  const pointed = (u) => {
    const i = u.cursor.idx;
    if (i == null || i === at) return;
    at = i;
    tell();
  };
  const tell = () => {
    const i = at == null || !frames[at] ? frames.length - 1 : at,
      f = frames[i];
    if (!f) return;
    const utc =
      given.begins == null ? "" : " · " + new Date((given.begins + f[0]) * 1000).toISOString().slice(11, 19) + " UTC";
    const inside = frames.filter((x) => x[0] >= from && x[0] < to),
      n = inside.length || 1;
    const sum = (k) => inside.reduce((t, x) => t + x[k], 0);
    says.at.textContent = clock(f[0]) + utc;
    says.users.textContent = f[F.starting] + f[F.busy] + f[F.thinking] + f[F.leaving] + " of " + f[F.planned];
    says.states.textContent =
      f[F.thinking] +
      " thinking, " +
      (f[F.busy] + f[F.starting]) +
      " busy" +
      (f[F.leaving] ? ", " + f[F.leaving] + " leaving" : "");
    const oldest = f[F.oldest_ms] >= 1000 ? ", the oldest for " + ms(f[F.oldest_ms]) : "";
    says.rate.textContent = three(f[F.answered] + f[F.failed]) + " /s";
    says["rate-more"].textContent =
      "window " + three((sum(F.answered) + sum(F.failed)) / n) + " /s, " + f[F.in_flight] + " in flight" + oldest;
    says.time.textContent = "p95 " + ms(f[F.p95_ms]);
    says["time-more"].textContent = "p50 " + ms(f[F.p50_ms]) + " · p99 " + ms(f[F.p99_ms]);
    const bad = Math.max(f[F.failed], f[F.steps_failed]);
    says.failures.textContent = bad + " /s";
    const kinds = Object.entries(kindsOf()).sort((a, b) => b[1] - a[1])[0];
    says["failures-more"].textContent =
      inside.reduce((t, x) => t + Math.max(x[F.failed], x[F.steps_failed]), 0) +
      " in the window" +
      (kinds ? ", mostly " + kinds[0] : "");
    says.generators.textContent = ms(f[F.late_p99_ms]);
    says["generators-more"].textContent =
      "processor " +
      three(f[F.cpu_percent]) +
      " %" +
      (f[F.is_late] ? ", late: " + ((f[F.late_by] || []).join(", ") || "its users") : "");
    const now = document.getElementById("now"),
      last = frames[frames.length - 1];
    if (now)
      now.textContent =
        last[F.starting] +
        last[F.busy] +
        last[F.thinking] +
        last[F.leaving] +
        " of " +
        last[F.planned] +
        " users, " +
        clock(last[0] + 1) +
        " of " +
        clock(given.duration);
  };
  let drawing = false;
  const redraw = () => {
    if (drawing) return;
    drawing = true;
    requestAnimationFrame(() => {
      drawing = false;
      end = Math.max(given.duration, frames.length);
      for (const u of lanes) u.setData(data[u.lane](), true);
      mark();
      tell();
    });
  };
  tape.addEventListener("keydown", (e) => {
    if (e.target !== tape) return;
    const step = e.key === "ArrowLeft" ? -1 : e.key === "ArrowRight" ? 1 : 0;
    if (step && e.shiftKey) {
      if (to - from >= end) from = at || 0;
      setWindow(from, Math.max(from + 1, Math.min(end, (to > end ? end : to) + step * 5)));
      e.preventDefault();
    } else if (step) {
      at = Math.max(0, Math.min(frames.length - 1, (at == null ? frames.length - 1 : at) + step));
      for (const u of lanes) u.setCursor({ left: u.valToPos(at, "x"), top: 10 }, false);
      tell();
      e.preventDefault();
    } else if (e.key === "Escape") setWindow(Math.floor(given.measured[0]), Math.ceil(given.measured[1]));
  });
  document.getElementById("whole").addEventListener("click", () => setWindow(0, Math.ceil(end)));
  document
    .getElementById("measured")
    .addEventListener("click", () => setWindow(Math.floor(given.measured[0]), Math.ceil(given.measured[1])));
  document.addEventListener("htmx:after:swap", () => {
    // a kept exchange that was opened is looked at
    const kept = document.getElementById("kept");
    if (kept && kept.contains(document.activeElement)) return;
    if (kept && kept.children.length && kept.dataset.seen !== kept.textContent) {
      kept.dataset.seen = kept.textContent;
      kept.scrollIntoView({ block: "nearest" });
    }
  });
  addEventListener("resize", () => {
    for (const u of lanes) {
      const box = u.root.parentElement;
      u.setSize({ width: box.clientWidth, height: u.height });
    }
    mark();
  });

  // live ---------------------------------------------------------------------------------------------
  let leaving = false;
  addEventListener("beforeunload", () => {
    leaving = true;
  });
  const again = () => {
    if (!leaving) location.reload();
  }; // a link that was just followed goes first
  let stream = null,
    last = given.last,
    over = given.over,
    tick = 0;
  const lost = document.getElementById("lost");
  const open = () => {
    if (over || document.hidden) return;
    stream = new EventSource(tape.dataset.stream + "?after=x." + last);
    stream.onopen = () => {
      lost.hidden = true;
    };
    stream.onerror = () => {
      lost.hidden = over;
    };
    stream.addEventListener("frame", (e) => {
      last = e.lastEventId.split(".").pop();
      const f = JSON.parse(e.data);
      if (f[0] >= frames.length) frames.push(f);
      redraw();
      if (++tick % 5 === 0) tables();
    });
    stream.addEventListener("state", (e) => {
      last = e.lastEventId.split(".").pop();
      again();
    });
    stream.addEventListener("log", (e) => {
      last = e.lastEventId.split(".").pop();
      const p = document.createElement("div");
      p.className = "problem";
      p.textContent = e.data;
      tape.before(p);
    });
    stream.addEventListener("end", () => {
      over = true;
      stream.close();
      lost.hidden = true;
      again();
    });
  };
  document.addEventListener("visibilitychange", () => {
    if (stream) {
      stream.close();
      stream = null;
    }
    open();
  });
  document.fonts.ready.then(() => {
    build();
    tell();
    open();
    tape.dataset.ready = "1";
  });
})();
