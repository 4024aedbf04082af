// A form that sends a file, or begins what takes a while: how far it is, first of sending, then of reading, and Stop.
import { all, near, one } from "../dom.js";

/** What a form shows while it is sent: the bar, the words and Stop, in the form or in the place it names. */
class Shown {
  constructor(form) {
    this.form = form;
    this.place = form.dataset.upload ? one(form.dataset.upload) : form;
    this.bar = one("progress", this.place);
    this.says = one("[data-says]", this.place);
    this.cancel = one("[data-cancel]", this.place);
  }
  buttons(isOn) {
    const inside = this.place === this.form;
    const found = inside ? all("button:not([data-cancel])", this.form) : all("form[data-upload] button");
    for (const button of found) button.disabled = !isOn;
  }
  begin(stop) {
    Object.assign(this.bar, { hidden: false, value: 0 });
    this.place.hidden = false;
    this.tell(this.form.dataset.doing || "Sending the file");
    if (this.cancel) Object.assign(this.cancel, { hidden: false, onclick: stop });
    this.buttons(false);
    if (this.place !== this.form) this.place.scrollIntoView({ block: "nearest" });
  }
  tell(words) {
    this.says.className = "small faded";
    this.says.textContent = words;
  }
  over(words) {
    this.says.textContent = words;
    this.says.className = "notification is-danger";
    this.bar.hidden = true;
    if (this.cancel) this.cancel.hidden = true;
    this.buttons(true);
  }
}

/**
 * Reads the lines that the server answers while it works: "progress 0.4", "done ADDRESS", "error WORDS".
 * @param {XMLHttpRequest} ask @param {Shown} shown @param {boolean} sendsFile
 */
const reader = (ask, shown, sendsFile) => {
  let seen = 0;
  return () => {
    const text = ask.responseText;
    const end = text.lastIndexOf("\n") + 1;
    for (const line of text.slice(seen, end).split("\n")) {
      if (line.startsWith("progress ")) {
        const share = Number(line.slice(9));
        shown.bar.value = sendsFile ? 0.5 + share / 2 : share;
        shown.tell(shown.form.dataset.doing || "Reading the file");
      }
      if (line.startsWith("done ")) location.assign(line.slice(5));
      if (line.startsWith("error ")) shown.over(line.slice(6));
    }
    seen = end;
  };
};

const refusal = (ask) => {
  const page = new DOMParser().parseFromString(ask.responseText, "text/html");
  const problem = page.querySelector(".notification.is-danger");
  return problem ? problem.textContent.trim() : `The server answered ${ask.status}.`;
};

document.addEventListener("submit", (event) => {
  const form = near(event, "form[data-upload]");
  if (!form) return;
  event.preventDefault();
  const shown = new Shown(form);
  const ask = new XMLHttpRequest();
  const sendsFile = Boolean(one("input[type=file]", form));
  const data = new /** @type {any} */ (FormData)(form, event.submitter);
  const read = reader(ask, shown, sendsFile);
  shown.begin(() => {
    ask.abort();
    shown.over("Stopped. Nothing was changed.");
  });
  ask.upload.onprogress = (done) => {
    if (sendsFile) shown.bar.value = done.lengthComputable ? done.loaded / done.total / 2 : 0.1;
  };
  ask.onprogress = () => ask.status === 200 && read();
  ask.onload = () => (ask.status === 200 ? read() : shown.over(refusal(ask)));
  ask.onerror = () => shown.over("The connection to Dynamikos broke off. Is it still running? Nothing was imported.");
  ask.open("POST", form.action);
  ask.setRequestHeader("HX-Request", "true");
  ask.send(data);
});
