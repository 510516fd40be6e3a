// The shelf: a piece from its file, and which pieces a batch takes.
import { $, json, refusal } from "../common/requests.js";
import "../page/at_work.js";

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
    if (type === "drop" && e.dataTransfer.files[0]) open(e.dataTransfer.files[0]);
  });
}
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
