// The list of what is at work in the top rail: what for which piece, since when, how long still, and a way to stop it.
import { $, request } from "../common/requests.js";

const EVERY = 1200;
const box = $("at-work");
let shown = "";

async function look() {
  if (document.hidden) return;
  show(await (await request("/at-work/list")).text());
}
function show(text) {
  if (text === shown || box.contains(document.activeElement)?.matches?.("button")) return;
  shown = text;
  const open = box.querySelector("details")?.open;
  box.innerHTML = text;
  if (open && box.querySelector("details")) box.querySelector("details").open = true;
}
box.addEventListener("click", async (e) => {
  const number = e.target.dataset?.stop;
  if (!number) return;
  const stopped = await request(`/at-work/${number}/stop`, { method: "POST" }).catch(() => null); // it has ended
  if (stopped) show(await stopped.text());
});
const again = () => look().catch(() => {}); // a server that is gone is told elsewhere
setInterval(again, EVERY);
again();
