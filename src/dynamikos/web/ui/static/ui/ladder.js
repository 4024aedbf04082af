// Marks the selected rung or step, keeps the address in step, and reorders by drag.
"use strict";
document.addEventListener("click", (e) => {
  const a = e.target.closest("#ladder a[data-at]"); if (!a) return;
  document.querySelectorAll("#ladder a[aria-current]").forEach((el) => el.removeAttribute("aria-current"));
  a.setAttribute("aria-current", "true");
  history.replaceState(null, "", "?at=" + encodeURIComponent(a.dataset.at));
});
