// Long lists get a field that filters them by their words.
const FEW = 10;

function tend() {
  for (const list of document.querySelectorAll("[data-filter]:not([data-tended])")) {
    list.dataset.tended = "yes";
    if (list.children.length <= FEW) continue;
    const field = document.createElement("input");
    field.type = "search";
    field.className = "search";
    field.placeholder = `Filter ${list.children.length}`;
    field.setAttribute("aria-label", list.dataset.filter || "Filter the list");
    list.before(field);
    field.addEventListener("input", () => {
      const wanted = field.value.trim().toLowerCase();
      for (const item of list.children) item.hidden = wanted !== "" && !item.textContent.toLowerCase().includes(wanted);
    });
    field.addEventListener("change", (e) => e.stopPropagation()); // it is no setting
  }
}
document.body.addEventListener("htmx:afterSettle", tend);
tend();
