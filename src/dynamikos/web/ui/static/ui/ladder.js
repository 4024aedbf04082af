// Marks the selected rung or step, keeps the address in step, and offers a new row when the last one is used.
"use strict";
document.addEventListener("click", (e) => {
  const a = e.target.closest("#ladder a[data-at]"); if (!a) return;
  document.querySelectorAll("#ladder a[aria-current]").forEach((el) => el.removeAttribute("aria-current"));
  a.setAttribute("aria-current", "true");
  history.replaceState(null, "", "?at=" + encodeURIComponent(a.dataset.at));
});
document.addEventListener("input", (e) => {
  const rows = e.target.closest("[data-rows]"); if (!rows) return;
  const last = rows.lastElementChild;
  if (![...last.querySelectorAll("input:not([type=hidden])")].some((i) => i.value)) return;
  const copy = last.cloneNode(true);
  copy.querySelectorAll("input").forEach((i) => { i.value = ""; });
  rows.append(copy);
});
document.addEventListener("change", (e) => { // another kind of body has other fields
  if (!e.target.matches("[data-reload]")) return;
  setTimeout(() => { const a = document.querySelector("#ladder a[aria-current]"); if (a) a.click(); }, 400);
});
