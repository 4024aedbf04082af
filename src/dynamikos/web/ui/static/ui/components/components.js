// The components of the pages, one a file; Alpine begins when all are known.
import { commandField } from "./command-field.js";
import { dependent } from "./dependent.js";
import { disclosure } from "./disclosure.js";
import { moreRows } from "./more-rows.js";
import { severalChosen } from "./several-chosen.js";
import { opener, theme } from "./theme.js";
import { tooltip } from "./tooltip.js";

const components = { commandField, dependent, disclosure, moreRows, opener, severalChosen, theme, tooltip };
document.addEventListener("alpine:init", () => {
  for (const [name, component] of Object.entries(components)) window.Alpine.data(name, component);
});
