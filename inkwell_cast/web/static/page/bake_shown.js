// The bake that is shown: its maps on the model and on the sheet.
import { $, request } from "../common/requests.js";
import { base, model, sheet, state, toast } from "./page.js";
import { showLines } from "./uv_lines.js";

const MOST_CHIPS = 3;

// What else wears a map when one is shown: called, and waited for, each time.
const dressed = [];
export function onMapShown(dress) {
  dressed.push(dress);
}

// What is shown where nobody chose: what a receiver shows, the normals with their occlusion where there is one.
function usual({ maps }) {
  return maps.includes("normal") && maps.includes("occlusion") ? TOGETHER : maps[0];
}

// What was found by settings that were read earlier does not say that a bake is fresh where later ones said it is not.
let newest = null;
function asOfNow(facts) {
  if (!newest || facts.read >= newest.read) newest = facts;
  else if (newest.id === facts.id) facts.stale = newest.stale;
  return facts;
}

export async function showBake(facts) {
  const unchosen = !state.choice || (state.facts && state.choice === usual(state.facts));
  state.facts = facts && asOfNow(facts);
  for (const made of state.bitmaps.values())
    for (const pair of Object.values(await made.catch(() => ({})))) pair.flipped.close?.();
  state.bitmaps.clear();
  const chips = $("map-chips");
  chips.replaceChildren();
  model.setPin(null);
  sheet.setMark(null);
  if (!facts) {
    state.worn = null;
    offerSheets([]);
    $("sheet-note").textContent = "The sheet fills when you bake. These are the UVs of the low.";
    $("sheet-fact").textContent = "";
    sheet.setMap(null, [1, 1]);
    model.setMap(null, null, null);
    showLines();
    return;
  }
  $("sheet-note").textContent = "";
  const choices = facts.maps.map((key) => [facts.labels[key], key]);
  if (facts.maps.includes("normal") && facts.maps.includes("occlusion"))
    choices.push(["Normal and occlusion", TOGETHER]);
  if (choices.length > MOST_CHIPS) {
    const list = document.createElement("select");
    list.className = "chip";
    list.id = "map-choice";
    list.setAttribute("aria-label", "Map");
    list.append(...choices.map(([words, key]) => new Option(words, key)));
    list.addEventListener("change", () => showMap(list.value));
    chips.append(list);
  } else
    for (const [words, key] of choices) {
      const chip = document.createElement("button");
      chip.className = "chip";
      chip.textContent = words;
      chip.dataset.key = key;
      chip.onclick = () => showMap(key);
      chips.append(chip);
    }
  const has = choices.some(([, key]) => key === state.choice);
  await showMap(has && !unchosen ? state.choice : usual(facts));
}

// The sheets to choose from; another is turned to where these do not have the one that is shown.
export function offerSheets(sheets) {
  const choice = $("sheet-choice"),
    names = sheets.map((s) => s.name);
  choice.hidden = names.length < 2;
  if (names.join("\n") !== [...choice.options].map((o) => o.value).join("\n"))
    choice.replaceChildren(...names.map((name) => new Option(name, name))); // or one that is unfolded would close
  if (names.length && !names.includes(state.sheet)) state.sheet = names[0];
  choice.value = state.sheet;
}

export function sheetSize() {
  const { sheets } = state.facts, // the live picture may have others
    { width, height } = sheets.find((s) => s.name === state.sheet) ?? sheets[0];
  return [width, height];
}

export const TOGETHER = "normal+occlusion"; // both at once, under a light that can be turned

export async function showMap(wanted) {
  const together = wanted === TOGETHER,
    key = together ? "normal" : wanted;
  state.key = key;
  state.choice = wanted;
  for (const chip of $("map-chips").children) chip.setAttribute("aria-pressed", chip.dataset.key === wanted);
  if ($("map-choice")) $("map-choice").value = wanted;
  $("heat").setAttribute("aria-pressed", wanted === "likeness");
  const facts = state.facts;
  const kept = (name) => {
    if (!state.bitmaps.has(name)) state.bitmaps.set(name, loadBitmaps(facts, name));
    return state.bitmaps.get(name);
  };
  const flipped = (made) => Object.fromEntries(Object.entries(made).map(([name, m]) => [name, m.flipped]));
  try {
    const made = await kept(key),
      shade = together ? await kept("occlusion") : null;
    if (state.facts !== facts || state.choice !== wanted) return;
    state.worn = null; // a live picture stood there before
    offerSheets(facts.sheets);
    const old = facts.stale ? `, ${facts.stale} changed since` : "",
      size = sheetSize();
    $("sheet-fact").textContent = `${size[0]} × ${size[1]}, ${facts.seconds}${old}`;
    sheet.setMap(made[state.sheet].upright, size);
    model.setMap(facts.stale === "meshes" ? null : flipped(made), facts, key);
    model.setShade(shade && facts.stale !== "meshes" ? flipped(shade) : null);
    if (facts.stale === "meshes")
      $("sheet-note").textContent = "The meshes changed since this bake, so the model does not wear it.";
    showLines();
    for (const dress of dressed) await dress();
  } catch (error) {
    state.bitmaps.delete(key);
    if (state.facts === facts) toast(error.message);
  }
}

export async function loadBitmaps(facts, key) {
  const made = {},
    exact = { premultiplyAlpha: "none", colorSpaceConversion: "none" };
  for (const { name } of facts.sheets) {
    const query = `most=${model.largest}&sheet=${encodeURIComponent(name)}`;
    const blob = await (await request(`${base}/bakes/${facts.id}/${key}.png?${query}`)).blob();
    made[name] = {
      upright: await createImageBitmap(blob, exact),
      flipped: await createImageBitmap(blob, { ...exact, imageOrientation: "flipY" }),
    };
  }
  return made;
}

$("sheet-choice").addEventListener("change", () => {
  state.sheet = $("sheet-choice").value;
  sheet.setMark(null);
  if (state.worn) state.worn();
  else showMap(state.choice);
});

document.body.addEventListener("show-bake", (e) => showBake(e.detail.facts));
document.body.addEventListener("settings-changed", (e) => {
  const facts = e.detail.facts;
  if (!facts || asOfNow(facts).id !== state.facts?.id) return;
  state.facts.stale = facts.stale;
  if (state.worn) return;
  const size = sheetSize();
  $("sheet-fact").textContent =
    `${size[0]} × ${size[1]}, ${facts.seconds}${facts.stale ? `, ${facts.stale} changed since` : ""}`;
});
