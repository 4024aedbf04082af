// A capture of one's own: writing it chooses it; a click on a group of the match takes that group.
"use strict";
document.addEventListener("input", (e) => {
  if (e.target.closest(".own") && e.target.id !== "own") document.getElementById("own").checked = true;
});
document.addEventListener("click", (e) => {
  const button = e.target.closest("[data-group]");
  if (!button) return;
  const more = document.querySelector(".own [name=capture-more]"),
    header = more.value.trim().split(/\s+/).slice(1).join(" ");
  more.value = (button.dataset.group + " " + header).trim();
  more.dispatchEvent(new Event("input", { bubbles: true }));
});
