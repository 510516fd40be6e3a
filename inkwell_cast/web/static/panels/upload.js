// Sends mesh files to the server, one after the other, and shows each as a row with its progress.
import { json } from "../common/requests.js";

export const GIVEN_UP = "Its reading was stopped. Add it again.";

export function send(file, batch, onShare) {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("PUT", `/uploads?name=${encodeURIComponent(file.name)}&batch=${batch}`);
    request.upload.onprogress = (e) => e.lengthComputable && onShare(e.loaded / e.total);
    request.onload = () => {
      let answer = {};
      try {
        answer = JSON.parse(request.responseText);
      } catch {
        /* not JSON: told below */
      }
      if (request.status === 204) reject(new Error(GIVEN_UP));
      else if (request.status < 300) resolve(answer);
      else reject(new Error(answer.error || `${file.name}: the server answered ${request.status}.`));
    };
    request.onerror = () => reject(new Error(`${file.name}: the server could not be reached.`));
    request.send(file);
  });
}

// What the server does with a file that it reads, in words, until `over()`: how far it is, or what it waits for.
const ASKED = 700; // milliseconds from one look to the next
function tellReading(name, over, say) {
  const timer = setInterval(async () => {
    if (over()) {
      clearInterval(timer);
      return;
    }
    const job = (await json("/at-work").catch(() => [])).find((one) => one.name === `Reading ${name}`);
    if (!job || over()) return;
    if (job.seconds === null) say(job.behind ? `waits for: ${job.behind}` : "waits for its turn");
    else say(job.share ? `reading, ${Math.round(100 * job.share)} %` : "reading");
  }, ASKED);
}

// What a row says while its file is read.
export function tellIn(row, words) {
  const over = () => !row.isConnected || row.dataset.state !== "coming" || words.textContent === "sending";
  tellReading(row.querySelector("b").textContent, over, (text) => {
    words.textContent = text;
  });
}

// The files of a drop, those in folders too; those of no kind that can be read are left out of a folder.
export async function filesOf(transfer, accepted) {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
  if (!entries.some((entry) => entry.isDirectory)) return [...transfer.files];
  const found = [];
  const walk = async (entry) => {
    if (entry.isFile) {
      const file = await new Promise((resolve, reject) => entry.file(resolve, reject));
      if (accepted(file.name)) found.push(file);
      return;
    }
    const reader = entry.createReader();
    for (;;) {
      // a reader gives a hundred at a time
      const some = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
      if (!some.length) return;
      for (const inner of some) await walk(inner);
    }
  };
  for (const entry of entries) await walk(entry);
  return found;
}
export const acceptedBy = (input) => (name) =>
  !input || input.accept.split(",").some((suffix) => name.toLowerCase().endsWith(suffix.trim())) || belongs({ name });

export const belongs = (file) => /\.(mtl|bin|png|jpe?g|tga|tiff?|bmp)$/i.test(file.name);

export function triangleWords({ triangles, objects, uvs }) {
  const many = triangles.toLocaleString("en").replaceAll(",", "\u202f"),
    parts = objects === 1 ? "part" : "parts";
  return `${many} triangles · ${objects} ${parts} · ${uvs ? "with UVs" : "no UVs"}`;
}

// A list of rows; `onDone(answer, row)` is called for each mesh that was taken in. Files that belong to one go first.
export function uploadsInto(list, onDone) {
  let last = Promise.resolve();
  return (files) => {
    const batch = Math.random().toString(36).slice(2);
    for (const file of [...files.filter(belongs), ...files.filter((f) => !belongs(f))]) {
      const row = document.createElement("li");
      row.innerHTML =
        '<b></b><button class="link" type="button">Remove</button><span class="bar"><i style="width:0"></i></span>' +
        '<span class="soft">waiting</span>';
      const [name, remove, bar, words] = row.children;
      row.dataset.state = "coming";
      name.textContent = name.title = file.name;
      remove.onclick = () => {
        row.remove();
        list.dispatchEvent(new Event("change"));
      };
      list.append(row);
      list.dispatchEvent(new Event("change"));
      last = last.then(async () => {
        if (!row.isConnected) return;
        words.textContent = "sending";
        try {
          const answer = await send(file, batch, (share) => {
            bar.firstChild.style.width = `${share * 100}%`;
            if (share < 1 || words.textContent === "reading") return;
            words.textContent = "reading";
            tellIn(row, words);
          });
          bar.remove();
          row.dataset.state = "read";
          if (answer.companion) {
            words.textContent = "goes with the mesh";
            return;
          }
          words.textContent = triangleWords(answer);
          if (row.isConnected) await onDone(answer, row);
        } catch (error) {
          bar.remove();
          words.className = "problem";
          words.setAttribute("role", "alert");
          words.textContent = error.message;
          row.dataset.state = "failed";
        }
        list.dispatchEvent(new Event("change"));
      });
    }
    return last;
  };
}

export function roleChoice(role, label) {
  const select = document.createElement("select");
  select.setAttribute("aria-label", label);
  for (const [value, word] of [
    ["", "by part names"],
    ["low", "low"],
    ["high", "high (sculpt)"],
    ["float", "floater"],
    ["cage", "cage"],
    ["self", "low and its own source"],
  ])
    select.add(new Option(word, value, value === role, value === role));
  return select;
}

// `dropped` takes what was dropped where that is another way than choosing.
export function takeDrops(area, take, dropped = take) {
  for (const type of ["dragenter", "dragover"])
    area.addEventListener(type, (e) => {
      e.preventDefault();
      area.classList.add("over");
    });
  area.addEventListener("dragleave", () => area.classList.remove("over"));
  const inputs = area.querySelectorAll("input[type=file]"),
    accepted = acceptedBy(inputs[0]);
  area.addEventListener("drop", async (e) => {
    e.preventDefault();
    area.classList.remove("over");
    dropped(await filesOf(e.dataTransfer, accepted));
  });
  for (const input of inputs)
    input.addEventListener("change", () => {
      take([...input.files].filter((file) => !input.webkitdirectory || accepted(file.name)));
      input.value = "";
    });
}
