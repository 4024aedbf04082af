// Trying a function: its arguments are named as its definition names them; what was kept while typing is offered at
// once.
"use strict";
(() => {
  const form = document.querySelector("[data-try]"),
    area = document.querySelector("textarea[data-editor=python]");
  if (!form) return;
  const choice = form.querySelector("select"),
    rows = form.querySelector("[data-arguments]"),
    el = document.getElementById("signatures");
  let signatures = el ? JSON.parse(el.textContent) : {};
  const given = new Map(); // what was typed for an argument is kept when another function is looked at
  const fields = () => {
    rows.querySelectorAll(".pairs").forEach((pair) => given.set(pair.children[0].value, pair.children[1].value));
    const names = signatures[choice.value] || [];
    rows.replaceChildren(
      ...(names.length ? names : [""]).map((name) => {
        const pair = document.createElement("div");
        pair.className = "pairs";
        for (const [field, value, label] of [
          ["arg-name", name, "Name of the argument"],
          ["arg-value", given.get(name) || "", name ? "Text for " + name : "Text"],
        ]) {
          const input = document.createElement("input");
          input.type = "text";
          input.className = "code";
          input.name = field;
          input.value = value;
          input.placeholder = field === "arg-name" ? "name" : "text";
          input.setAttribute("aria-label", label);
          pair.append(input);
        }
        return pair;
      }),
    );
  };
  choice.addEventListener("change", fields);
  if (area)
    area.addEventListener("kept", (e) => {
      if (!e.detail.signatures) return;
      signatures = e.detail.signatures;
      const chosen = choice.value;
      choice.replaceChildren(...Object.keys(signatures).map((name) => new Option(name, name, false, name === chosen)));
      fields();
      const number = Object.keys(signatures).length,
        modules = document.querySelectorAll(".kinds a[href^='?at=']:not([href='?at='])").length;
      document.querySelector("h1").textContent = number
        ? number +
          (number === 1 ? " function in " : " functions in ") +
          modules +
          (modules === 1 ? " module" : " modules")
        : "No Python function yet";
    });
  fields();
})();
