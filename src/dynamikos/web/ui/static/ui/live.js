// A page that follows a stream: each event fetches the results anew; a hidden tab closes its stream.
"use strict";
(() => {
  const box = document.getElementById("live");
  if (!box || !box.dataset.stream) return;
  const lost = document.getElementById("lost");
  let stream = null,
    waiting = false,
    over = false,
    last = "";
  const at = () => new URLSearchParams(location.search).get("at") || "";
  const refresh = () => {
    if (waiting) return;
    waiting = true;
    setTimeout(() => {
      waiting = false;
      htmx.ajax("GET", box.dataset.results + "?at=" + encodeURIComponent(at()), { target: "#live", swap: "innerHTML" });
    }, 120);
  };
  const open = () => {
    if (over || document.hidden) return;
    stream = new EventSource(box.dataset.stream + (last ? "?after=" + encodeURIComponent(last) : ""));
    stream.onopen = () => {
      lost.hidden = true;
    };
    stream.onerror = () => {
      lost.hidden = over;
    };
    for (const kind of ["exchange", "state"])
      stream.addEventListener(kind, (e) => {
        last = e.lastEventId;
        refresh();
      });
    stream.addEventListener("end", () => {
      over = true;
      stream.close();
      lost.hidden = true;
      refresh();
    });
  };
  document.addEventListener("visibilitychange", () => {
    if (stream) {
      stream.close();
      stream = null;
    }
    open();
  });
  open();
})();
