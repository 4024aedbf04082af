// Every page: its components, its keys, what is typed is kept, uploads with their progress.
import "../components/components.js";
import "../keeping/keeping.js";
import "./details.js";
import "./focus.js";
import "./keys.js";
import "./pins.js";
import "./uploads.js";
import { near } from "../dom.js";

// htmx would take the page in a moment after it has loaded: what is pressed before that would be lost or load the
// whole page. So it takes it in now, before the browser says that the page is there; it does so once.
document.addEventListener("DOMContentLoaded", () => window.htmx.initialize());

document.addEventListener("click", (event) => {
  if (near(event, "[data-do=close]")) near(event, "dialog").close();
});
document.addEventListener("change", (event) => {
  near(event, "[data-submit-on-change]")?.form.requestSubmit();
});
