"use strict";
// Tables sort by their heads, and those with a field above are filtered by what is typed into it. Without scripts they are as they are.
for (const table of document.querySelectorAll("table.sorts")) {
  const body = table.tBodies[0], heads = [...table.tHead.rows[0].cells];
  heads.forEach((head, column) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const value = (row) => row.cells[column].dataset.value ?? row.cells[column].textContent.trim();
      const numbers = head.classList.contains("number");
      const rows = [...body.rows].sort((a, b) => numbers ? value(a) - value(b) : value(a).localeCompare(value(b), undefined, { numeric: true }));
      body.append(...(down ? rows.reverse() : rows));
    });
  });
}
for (const field of document.querySelectorAll("input[data-filters]")) {
  const table = document.getElementById(field.dataset.filters), said = document.getElementById(field.dataset.filters + "-shown");
  field.closest("label").hidden = false;
  field.addEventListener("input", () => {
    const wanted = field.value.toLowerCase();
    let shown = 0;
    for (const row of table.tBodies[0].rows) {
      row.hidden = !row.textContent.toLowerCase().includes(wanted);
      shown += row.hidden ? 0 : 1;
    }
    said.textContent = wanted === "" ? "" : shown + " of " + table.tBodies[0].rows.length;
  });
}
