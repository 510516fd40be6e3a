// The list of what is at work in the top rail: what for which piece, since when, how long still, and a way to stop it.
const EVERY = 1200;
const box = document.getElementById("at-work");
let shown = "";

async function look() {
  if (document.hidden) return;
  const response = await fetch("/at-work/list");
  if (response.ok) show(await response.text());
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
  const response = await fetch(`/at-work/${number}/stop`, { method: "POST" });
  if (response.ok) show(await response.text());
});
const again = () => look().catch(() => {}); // a server that is gone is told elsewhere
setInterval(again, EVERY);
again();
