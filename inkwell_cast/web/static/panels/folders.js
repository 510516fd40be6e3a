// Choosing a folder of this machine: those in it, the one above, and the ones used last.
import { $, json } from "../common/requests.js";
import { toast } from "../page/page.js";

const piece = $("table").dataset.piece;
const dialog = document.createElement("dialog");
dialog.className = "folders";
dialog.setAttribute("aria-label", "Choose a folder");
dialog.innerHTML = `<p class="folder-path"><b></b></p><p class="folder-recent"></p><ul></ul>
  <p class="actions"><button class="button primary" value="choose">Choose this folder</button>
    <button class="button" value="close">Close</button></p>`;
document.body.append(dialog);
let field = null,
  here = "",
  looking = Promise.resolve(); // what was pressed last is what is chosen

function button(words, path) {
  const made = document.createElement("button");
  made.className = "link";
  made.textContent = words;
  made.title = path;
  made.onclick = () => go(path);
  return made;
}

function go(path) {
  return (looking = looking.then(() => look(path)).catch((error) => toast(error.message)));
}

async function look(path) {
  let found;
  try {
    found = await json(`/folders?piece=${piece}&place=${encodeURIComponent(path)}`);
  } catch (error) {
    if (!path) {
      toast(error.message);
      return;
    }
    found = await json(`/folders?piece=${piece}`);
  }
  here = found.path;
  dialog.querySelector("b").textContent = here;
  const items = found.folders.map((name) => button(name, `${here.replace(/[\\/]$/, "")}/${name}`));
  if (found.above) items.unshift(button("… the folder above", found.above));
  dialog.querySelector("ul").replaceChildren(
    ...items.map((item) => {
      const row = document.createElement("li");
      row.append(item);
      return row;
    }),
  );
  if (!items.length) dialog.querySelector("ul").textContent = "No folders in it.";
  dialog
    .querySelector(".folder-recent")
    .replaceChildren(
      ...(found.recent.length
        ? ["Used last: ", ...found.recent.map((place) => button(place.split(/[\\/]/).pop(), place))]
        : []),
    );
}

dialog.addEventListener("click", async (e) => {
  if (e.target.value === "close") dialog.close();
  if (e.target.value === "choose") {
    await looking;
    field.value = here;
    field.dispatchEvent(new Event("change", { bubbles: true }));
    dialog.close();
  }
});
document.addEventListener("click", async (e) => {
  const opener = e.target.closest?.("[data-choose-folder]");
  if (!opener) return;
  field = opener.closest("form").querySelector("input[name=place]");
  await go(field.value.replace(/\.zip$/, ""));
  dialog.showModal();
});
