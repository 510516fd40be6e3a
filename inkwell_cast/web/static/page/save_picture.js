// Saving what the model view shows: a picture, or one turn of the piece.
import { $, request } from "../common/requests.js";
import { base, model, toast } from "./page.js";

const FRAMES = 48;

function save(blob, name) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 30_000);
}
const called = () => document.querySelector(".rail-piece").title.replace(/[^\w.-]+/g, "_");

async function turntable(kind, button) {
  const frames = new FormData(),
    words = button.textContent;
  button.disabled = true;
  try {
    for (let n = 0; n < FRAMES; n++) {
      button.textContent = `${n + 1} of ${FRAMES}`;
      frames.append("frames", await model.picture(1, (n / FRAMES) * 2 * Math.PI), `${String(n).padStart(3, "0")}.png`);
    }
    const response = await request(`${base}/turntable.${kind}`, { method: "POST", body: frames });
    save(await response.blob(), `${called()}_turntable.${kind}`);
  } catch (error) {
    toast(error.message);
  }
  button.textContent = words;
  button.disabled = false;
}

$("picture").addEventListener("click", async (e) => {
  const { picture, turntable: kind } = e.target.dataset;
  if (picture) save(await model.picture(Number(picture)), `${called()}.png`);
  if (kind) turntable(kind, e.target);
});
document.addEventListener("pointerdown", (e) => {
  for (const menu of document.querySelectorAll("details.surface[open]"))
    if (!menu.contains(e.target)) menu.open = false;
});
