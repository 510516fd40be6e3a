// Renaming in place: what has a name of its own becomes a field at a double click or F2; Enter keeps, Escape goes back.
import { $, stepAddress } from "../common/requests.js";
import { ask, base, change, toast } from "./page.js";

function open(named) {
  if (named.dataset.renaming) return;
  named.dataset.renaming = "yes";
  const field = document.createElement("input");
  field.type = "text";
  field.maxLength = 200;
  field.className = "renaming";
  field.value = named.dataset.name ?? named.textContent.trim();
  field.setAttribute("aria-label", `New name of ${field.value}`);
  const before = field.value;
  let over = false;
  const end = (keep) => {
    if (over) return;
    over = true;
    const to = field.value.trim();
    field.remove();
    named.hidden = false;
    delete named.dataset.renaming;
    if (keep && to && to !== before) give(named, to).catch((error) => toast(error.message));
  };
  field.addEventListener("keydown", (e) => {
    e.stopPropagation();
    if (e.key === "Enter" || e.key === "Escape") end(e.key === "Enter");
  });
  field.addEventListener("blur", () => end(true));
  for (const type of ["click", "dblclick", "change", "input"]) field.addEventListener(type, (e) => e.stopPropagation());
  named.hidden = true;
  named.after(field);
  field.focus();
  field.select();
}

// `data-rename` is the address, `data-field` what it calls the name, `data-renamed` which part of the page it answers.
async function give(named, to) {
  const { rename, field, renamed } = named.dataset,
    values = { [field]: to };
  if (renamed) {
    await ask("POST", rename, { target: renamed, values });
    return;
  }
  await change(rename.slice(base.length + 1), values, {
    method: "POST",
    body: new URLSearchParams(values),
    headers: {},
  });
  await ask("GET", stepAddress(), "#panel");
  if (named.id !== "piece-name") return;
  named.textContent = named.title = to;
  document.title = document.title.replace(/^.*(?= · )/, to);
}

document.addEventListener("dblclick", (e) => {
  const named = e.target.closest?.("[data-rename]");
  if (named) open(named);
});
document.addEventListener("keydown", (e) => {
  const named = e.key === "F2" && e.target.closest?.("[data-rename]");
  if (named) open(named);
});
$("piece-name").tabIndex = 0;
