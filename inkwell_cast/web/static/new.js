// The page of a new piece: files in, roles chosen, piece made.
import { roleChoice, takeDrops, uploadsInto } from "./upload.js";

const $ = (id) => document.getElementById(id);
const list = $("list");

const take = uploadsInto(list, (answer, row) => {
  const select = roleChoice(answer.role, `Role of ${answer.name}`);
  row.dataset.token = answer.token;
  row.insertBefore(select, row.children[1]);
  select.onchange = judge;
  judge();
});

const roles = () => Object.fromEntries([...list.children].filter((r) => r.dataset.token).map((r) => [r.dataset.token, r.querySelector("select").value]));

function judge() {
  const have = Object.values(roles());
  const missing = ["low", "high"].filter((role) => !have.includes(role));
  $("make").disabled = missing.length > 0;
  $("why").textContent = missing.length ? `Still needed: a ${missing.join(" and a ")}.` : "";
  const low = [...list.children].find((r) => r.querySelector("select")?.value === "low");
  if (low) $("name").placeholder = low.firstChild.textContent.replace(/\.[^.]+$/, "").replace(/_low.*$/i, "");
}

list.addEventListener("change", judge);
takeDrops($("drop"), take);
window.addEventListener("dragover", (e) => e.preventDefault());
window.addEventListener("drop", (e) => { e.preventDefault(); if (!$("drop").contains(e.target)) take([...e.dataTransfer.files]); });

$("make").onclick = async () => {
  $("make").disabled = true;
  const name = $("name").value.trim() || $("name").placeholder;
  const response = await fetch("/pieces", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ name, roles: roles() }) });
  const answer = await response.json().catch(() => ({ error: `The server answered ${response.status}.` }));
  if (response.ok) { location.href = answer.address; return; }
  $("problem").textContent = answer.error;
  $("problem").hidden = false;
  judge();
};
