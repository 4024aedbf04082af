// What is typed is kept: forms that save themselves within a second, what is unsaved when a page is left, and texts
// that wait for their button.
import "./saving.js";
import "./leaving.js";
import "./remembering.js";
import "./refused.js";
