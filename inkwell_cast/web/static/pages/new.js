// The page of a new piece: files in, roles chosen, piece made once every file is read.
import { $, json, sending } from "../common/requests.js";
import "../page/at_work.js";
import {
  acceptedBy,
  GIVEN_UP,
  filesOf,
  roleChoice,
  takeDrops,
  tellIn,
  triangleWords,
  uploadsInto,
} from "../panels/upload.js";

const list = $("list");

async function settle(answer, row) {
  const select = roleChoice("", `Role of ${answer.name}`);
  row.dataset.token = answer.token;
  row.insertBefore(select, row.children[1]);
  select.onchange = () => {
    select.dataset.chosen = "yes";
    tell(row, "");
    judge();
  };
  await guess();
  judge();
}

// Where names say nothing the server proposes roles; what was chosen by hand stays.
async function guess() {
  const rows = read(),
    tokens = rows.map((row) => row.dataset.token);
  const found = await json("/uploads/roles", sending(tokens)).catch(() => null);
  if (!found) return;
  const { roles: guesses, levels } = found;
  $("levels").hidden = levels.length < 2;
  $("level-names").textContent = levels.join(", ");
  for (const row of rows) {
    const select = row.querySelector("select"),
      one = guesses[row.dataset.token];
    if (select.dataset.chosen) continue;
    select.value = one?.role ?? "";
    tell(row, one ? `Guessed: ${one.why}.` : "");
  }
}
function tell(row, words) {
  let line = row.querySelector(".guess");
  if (!line) {
    line = document.createElement("span");
    line.className = "guess";
    row.append(line);
  }
  line.textContent = words;
  line.hidden = !words;
}
const rowsOf = (state) => [...list.children].filter((row) => row.dataset.state === state);
const read = () => [...list.children].filter((row) => row.dataset.token);
const take = uploadsInto(list, settle);

$("from-place").addEventListener("submit", async (e) => {
  e.preventDefault();
  const row = document.createElement("li"),
    path = $("place").value;
  row.dataset.state = "coming";
  row.innerHTML = '<b></b><button class="link" type="button">Remove</button><span class="soft">reading</span>';
  const [name, remove, words] = row.children;
  name.textContent = name.title = path.split(/[\\/]/).pop();
  remove.onclick = () => {
    row.remove();
    judge();
  };
  list.append(row);
  tellIn(row, words);
  judge();
  $("place").value = ""; // now, not when it is read: another may be typed by then
  try {
    const answer = await json("/uploads/from", sending({ path }, "PUT"));
    if (!answer.token) throw new Error(GIVEN_UP);
    row.dataset.state = "read";
    words.textContent = triangleWords(answer);
    await settle(answer, row);
  } catch (error) {
    row.dataset.state = "failed";
    $("place").value ||= path;
    words.className = "problem";
    words.setAttribute("role", "alert");
    words.textContent = error.message;
    judge();
  }
});

const roles = () => Object.fromEntries(read().map((r) => [r.dataset.token, r.querySelector("select").value]));

// What still stands between the files and a piece, in words; "" for nothing.
function missing() {
  const coming = rowsOf("coming").length,
    failed = rowsOf("failed").length;
  if (coming) return coming === 1 ? "One file is still being read." : `${coming} files are still being read.`;
  if (failed)
    return failed === 1
      ? "One file could not be read. Remove it, or add it again."
      : `${failed} files could not be read. Remove them, or add them again.`;
  const have = Object.values(roles()),
    named = have.includes(""),
    needed = [["low", "self"], ...($("alone").checked ? [] : [["high", "float", "self"]])];
  const lacking = needed.filter((any) => !named && !any.some((role) => have.includes(role))).map((any) => any[0]);
  return lacking.length || !have.length
    ? `Still needed: a ${(have.length ? lacking : needed.map((any) => any[0])).join(" and a ")}.`
    : "";
}

const eachLevel = () => !$("levels").hidden && $("each-level").checked;

function judge() {
  const why = missing();
  $("make").disabled = why !== "";
  $("make").textContent = eachLevel() ? "Make the pieces" : "Make the piece";
  $("why").textContent = why;
  const named = (row) => row.querySelector("b").textContent;
  const low =
    read().find((r) => r.querySelector("select").value === "low" || /_(low|lowpoly|lp)\b/i.test(named(r))) || read()[0];
  if (low)
    $("name").placeholder = named(low)
      .replace(/\.[^.]+$/, "")
      .replace(/_(low|high|lowpoly|highpoly|lp|hp)$/i, "")
      .replace(/[_. -]?lod[_ -]?\d{1,2}/i, "");
}

list.addEventListener("change", async (e) => {
  if (e.target === list && read().length) await guess();
  judge();
});
for (const id of ["alone", "each-level"]) $(id).addEventListener("change", judge);
takeDrops($("drop"), take, dropped);
window.addEventListener("dragover", (e) => e.preventDefault());
window.addEventListener("drop", async (e) => {
  e.preventDefault();
  if (!$("drop").contains(e.target)) dropped(await filesOf(e.dataTransfer, acceptedBy($("files"))));
});

// Files were dropped: where their names say what each is, nothing is left to ask.
async function dropped(files) {
  await take(files);
  makeIfSaid();
}
function makeIfSaid() {
  const guessed = read().some((row) => row.querySelector(".guess")?.hidden === false);
  if (read().length > 1 && !missing() && !guessed && $("levels").hidden) make("&undo=yes");
}

$("make").onclick = () => make("");
async function make(how) {
  $("make").disabled = true;
  const name = $("name").value.trim() || $("name").placeholder;
  try {
    const wanted = { name, roles: roles(), alone: $("alone").checked, each_level: eachLevel() };
    location.href = `${(await json("/pieces", sending(wanted))).address}?new=yes${how}`;
  } catch (error) {
    $("problem").textContent = error.message;
    $("problem").hidden = false;
    judge();
  }
}

// Files that were dropped on the shelf are read already.
const brought = new URLSearchParams(location.search).get("taken");
async function takeBrought() {
  for (const answer of await json(`/uploads?tokens=${encodeURIComponent(brought)}`)) {
    const row = document.createElement("li"),
      words = document.createElement("span");
    row.innerHTML = '<b></b><button class="link" type="button">Remove</button>';
    const [name, remove] = row.children;
    name.textContent = name.title = answer.name;
    words.className = "soft";
    words.textContent = triangleWords(answer);
    row.append(words);
    row.dataset.state = "read";
    remove.onclick = () => {
      row.remove();
      judge();
    };
    list.append(row);
    await settle(answer, row);
  }
  makeIfSaid();
}
if (brought) takeBrought();
list.dataset.ready = "yes";
