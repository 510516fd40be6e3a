// The shelf: a piece from its file, and which pieces a batch takes.
import { $, json, refusal, request } from "../common/requests.js";
import "../page/at_work.js";
import { acceptedBy, belongs, filesOf, send } from "../panels/upload.js";

const problem = $("problem");

function tell(text) {
  problem.textContent = text;
  problem.hidden = !text;
}

async function open(file) {
  tell("");
  const label = $("open-piece").parentElement,
    words = label.firstChild;
  const before = words.textContent;
  words.textContent = "Opening … ";
  try {
    location.href = (
      await json(`/pieces/open?name=${encodeURIComponent(file.name)}`, { method: "PUT", body: file })
    ).address;
  } catch (error) {
    tell(error.message);
  }
  words.textContent = before;
}

$("open-piece").addEventListener("change", (e) => {
  const file = e.target.files[0];
  e.target.value = "";
  if (file) open(file);
});
for (const type of ["dragover", "drop"]) {
  document.addEventListener(type, (e) => {
    if (!e.dataTransfer.types.includes("Files")) return;
    e.preventDefault();
    if (type === "drop") take(e.dataTransfer).catch((error) => tell(error.message));
  });
}

// A piece file is opened; meshes become a new piece.
async function take(transfer) {
  const accepted = acceptedBy({ accept: document.querySelector("main").dataset.accept }),
    files = await filesOf(transfer, accepted),
    piece = files.find((file) => file.name.toLowerCase().endsWith(".icast")),
    meshes = files.filter((file) => accepted(file.name));
  if (piece || !meshes.length) {
    if (piece || files[0]) open(piece || files[0]);
    return;
  }
  const batch = Math.random().toString(36).slice(2),
    tokens = [];
  for (const file of meshes.sort((a, b) => belongs(b) - belongs(a))) {
    tell(`Reading ${file.name} …`);
    const { token } = await send(file, batch, () => {});
    if (token) tokens.push(token);
  }
  location.href = `/new?taken=${encodeURIComponent(tokens.join(","))}`;
}
document.addEventListener("submit", async (e) => {
  const form = e.target.closest("form.rename");
  if (!form) return;
  e.preventDefault();
  const body = new URLSearchParams(new FormData(form)),
    shown = form.closest(".card").querySelector(".card-name");
  try {
    await request(form.action, { method: "POST", body });
    shown.textContent = shown.title = body.get("name").trim();
    form.parentElement.open = false;
  } catch (error) {
    tell(error.message);
  }
});
document.addEventListener("toggle", (e) => e.target.open && e.target.querySelector(".rename input")?.select(), true);
$("tick-all")?.addEventListener("click", () => {
  const boxes = [...document.querySelectorAll("input[name=piece]")],
    all = boxes.every((box) => box.checked);
  for (const box of boxes) box.checked = !all;
});

// The pieces as they look, one after the other: the engine draws those that were never baked, while it has time.
async function light(picture) {
  for (let tries = 0; tries < 100; tries++) {
    const response = await fetch(picture.dataset.from);
    if (response.status === 503) {
      await new Promise((again) => setTimeout(again, 2000));
      continue;
    }
    if (!response.ok) return;
    picture.src = URL.createObjectURL(await response.blob());
    picture.hidden = false;
    picture.previousElementSibling.remove();
    return;
  }
}
(async () => {
  for (const picture of document.querySelectorAll("img.lit")) await light(picture).catch(() => {});
})();

document.body.addEventListener("htmx:responseError", (e) => tell(refusal(e.detail.xhr)));

// Once, for who is new here.
const first = $("first-run");
if (first && !localStorage.getItem("tour")) {
  first.hidden = false;
  $("no-tour").onclick = () => {
    localStorage.setItem("tour", "no");
    first.hidden = true;
  };
}
