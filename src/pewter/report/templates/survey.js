"use strict";
(() => {
  const table = document.getElementById("sites");
  const body = table.tBodies[0];
  const rows = Array.from(body.rows);
  const shown = document.getElementById("shown");
  const filter = document.getElementById("filter");
  const level = document.getElementById("level");
  document.getElementById("tools").hidden = false;
  const count = () => {
    const left = rows.filter((row) => !row.hidden).length;
    shown.textContent = left + " of " + rows.length + " sites";
  };
  const apply = () => {
    const words = filter.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const row of rows) {
      const text = row.textContent.toLowerCase();
      const fits = words.every((word) => text.includes(word));
      row.hidden = !(fits && (!level.value || row.dataset.level === level.value));
    }
    count();
  };
  const value = (row, at) => row.cells[at].dataset.value || "";
  const heads = Array.from(table.tHead.rows[0].cells);
  heads.forEach((head, at) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const falling = head.getAttribute("aria-sort") === "ascending";
      heads.forEach((each) => each.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", falling ? "descending" : "ascending");
      const isNumber = head.dataset.kind === "number";
      const sorted = rows.slice().sort((one, other) => {
        const a = value(one, at), b = value(other, at);
        if (a === "" || b === "") return (a === "") - (b === "");
        const order = isNumber ? Number(a) - Number(b) : a < b ? -1 : a > b ? 1 : 0;
        return falling ? -order : order;
      });
      body.append(...sorted);
    });
  });
  filter.addEventListener("input", apply);
  level.addEventListener("change", apply);
  count();
})();
