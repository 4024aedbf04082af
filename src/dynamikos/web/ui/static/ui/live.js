// A page that follows a stream: each event fetches the results anew; a hidden tab closes its stream.
import { one } from "./dom.js";

const PAUSE_MS = 120; // events that come together are one
const box = one("#live");
const lost = one("#lost");
let stream = null;
let isWaiting = false;
let isOver = false;
let last = "";

const fetchResults = () => {
  isWaiting = false;
  const at = new URLSearchParams(location.search).get("at") || "";
  const address = `${box.dataset.results}?at=${encodeURIComponent(at)}`;
  window.htmx.ajax("GET", address, { target: "#live", swap: "innerMorph" });
};
const refresh = () => {
  if (isWaiting) return;
  isWaiting = true;
  setTimeout(fetchResults, PAUSE_MS);
};

const end = () => {
  isOver = true;
  stream.close();
  lost.hidden = true;
  refresh();
};

const open = () => {
  if (isOver || document.hidden) return;
  stream = new EventSource(box.dataset.stream + (last ? `?after=${encodeURIComponent(last)}` : ""));
  stream.onopen = () => (lost.hidden = true);
  stream.onerror = () => (lost.hidden = isOver);
  for (const kind of ["exchange", "state"]) {
    stream.addEventListener(kind, (event) => {
      last = event.lastEventId;
      refresh();
    });
  }
  stream.addEventListener("end", end);
};

if (box && box.dataset.stream) {
  document.addEventListener("visibilitychange", () => {
    if (stream) stream.close();
    stream = null;
    open();
  });
  open();
}
