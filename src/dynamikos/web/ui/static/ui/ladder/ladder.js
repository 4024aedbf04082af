// The ladder and the panel beside it.
import "./selecting.js";
import "./rows.js";
import "./panel.js";
import "./dragging.js";
