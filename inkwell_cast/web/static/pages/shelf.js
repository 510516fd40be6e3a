// The shelf: a piece from its file, and which pieces a batch takes.
import "../page/at_work.js";

const problem = document.getElementById("problem");

function tell(text) {
  problem.textContent = text;
  problem.hidden = !text;
}

async function open(file) {
  tell("");
  const label = document.getElementById("open-piece").parentElement, words = label.firstChild;
  const before = words.textContent;
  words.textContent = "Opening … ";
  try {
    const response = await fetch(`/pieces/open?name=${encodeURIComponent(file.name)}`, { method: "PUT", body: file });
    const answer = await response.json().catch(() => ({}));
    if (!response.ok) throw new Error(answer.error || `The server answered ${response.status}.`);
    location.href = answer.address;
  } catch (error) { tell(error.message); }
  words.textContent = before;
}

document.getElementById("open-piece").addEventListener("change", (e) => {
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
document.getElementById("tick-all")?.addEventListener("click", () => {
  const boxes = [...document.querySelectorAll("input[name=piece]")], all = boxes.every((box) => box.checked);
  for (const box of boxes) box.checked = !all;
});

// The pieces as they look, one after the other: the engine draws those that were never baked, while it has time.
async function light(picture) {
  for (let tries = 0; tries < 100; tries++) {
    const response = await fetch(picture.dataset.from);
    if (response.status === 503) { await new Promise((again) => setTimeout(again, 2000)); continue; }
    if (!response.ok) return;
    picture.src = URL.createObjectURL(await response.blob());
    picture.hidden = false;
    picture.previousElementSibling.remove();
    return;
  }
}
(async () => { for (const picture of document.querySelectorAll("img.lit")) await light(picture).catch(() => {}); })();

document.body.addEventListener("htmx:responseError", (e) => {
  let text = `The server answered ${e.detail.xhr.status}.`;
  try { text = JSON.parse(e.detail.xhr.responseText).error || text; } catch { /* not JSON */ }
  tell(text);
});

// Once, for who is new here.
const first = document.getElementById("first-run");
if (first && !localStorage.getItem("tour")) {
  first.hidden = false;
  document.getElementById("no-tour").onclick = () => { localStorage.setItem("tour", "no"); first.hidden = true; };
}
