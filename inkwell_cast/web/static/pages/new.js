// The page of a new piece: files in, roles chosen, piece made.
import { roleChoice, takeDrops, triangleWords, uploadsInto } from "../panels/upload.js";

const $ = (id) => document.getElementById(id);
const list = $("list");

function settle(answer, row) {
  const select = roleChoice(answer.role, `Role of ${answer.name}`);
  row.dataset.token = answer.token;
  row.insertBefore(select, row.children[1]);
  select.onchange = judge;
  judge();
}
const take = uploadsInto(list, settle);

$("from-place").addEventListener("submit", async (e) => {
  e.preventDefault();
  const row = document.createElement("li"), path = $("place").value;
  row.innerHTML = '<b></b><button class="link" type="button">Remove</button><span class="soft">reading</span>';
  const [name, remove, words] = row.children;
  name.textContent = name.title = path.split(/[\\/]/).pop();
  remove.onclick = () => { row.remove(); judge(); };
  list.append(row);
  const response = await fetch("/uploads/from", { method: "PUT", headers: { "Content-Type": "application/json" }, body: JSON.stringify({ path }) });
  const answer = await response.json().catch(() => ({ error: `The server answered ${response.status}.` }));
  if (response.ok) { words.textContent = triangleWords(answer); settle(answer, row); $("place").value = ""; return; }
  words.className = "problem"; words.setAttribute("role", "alert"); words.textContent = answer.error;
});

const roles = () => Object.fromEntries([...list.children].filter((r) => r.dataset.token).map((r) => [r.dataset.token, r.querySelector("select").value]));

function judge() {
  const have = Object.values(roles()), named = have.includes("");
  const missing = [["low", "self"], ["high", "float", "self"]].filter((any) => !named && !any.some((role) => have.includes(role))).map((any) => any[0]);
  $("make").disabled = missing.length > 0 || !have.length;
  $("why").textContent = missing.length || !have.length ? `Still needed: a ${(have.length ? missing : ["low", "high"]).join(" and a ")}.` : "";
  const low = [...list.children].find((r) => r.querySelector("select")?.value === "low" || /_low/i.test(r.firstChild.textContent)) || [...list.children].find((r) => r.dataset.token);
  if (low) $("name").placeholder = low.firstChild.textContent.replace(/\.[^.]+$/, "").replace(/_(low|high)$/i, "");
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
list.dataset.ready = "yes";
