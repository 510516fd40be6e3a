// The step Meshes: files dropped on the panel or on one another, parts dragged from pair to pair.
import { $, sending } from "../common/requests.js";
import { takeDrops, uploadsInto } from "./upload.js";

export class MeshesPanel {
  // `changed(said)` is called when files were taken in, `partly()` when some of them were refused.
  constructor(base, { ask, json, changed, partly }) {
    Object.assign(this, { base, ask, json, changed, partly });
  }

  // Fields of a panel that was drawn anew.
  tend() {
    const drop = $("panel-drop");
    if (!drop || drop.dataset.tended) return;
    drop.dataset.tended = "yes";
    const post = (address, body) => this.json(address, sending(body));
    let added = 0,
      said = [];
    const take = uploadsInto($("panel-uploads"), async (answer) => {
      const done = await post(`${this.base}/meshes`, { token: answer.token });
      added += 1;
      said.push(...done.said);
    });
    takeDrops(drop, async (files) => {
      added = 0;
      said = [];
      await take(files);
      if (added && !$("panel-uploads")?.querySelector(".problem")) await this.changed(said);
      else if (added) await this.partly();
    });
    for (const row of document.querySelectorAll(".file")) {
      const replace = uploadsInto($("panel-uploads"), async (answer) => {
        const done = await post(`${this.base}/meshes/${row.dataset.mesh}/replace`, { token: answer.token });
        await this.changed([`${answer.name} was taken in its place.`, ...done.said]);
      });
      takeDrops(row, (files) => replace(files.slice(0, 1)));
    }
    this.tendPairs();
  }

  // Parts are dragged from pair to pair, or moved by a small form.
  tendPairs() {
    const form = $("part-menu");
    if (!form) return;
    for (const part of document.querySelectorAll(".part")) {
      part.addEventListener("dragstart", (e) => {
        e.dataTransfer.setData("application/x-part", part.dataset.key);
        e.dataTransfer.effectAllowed = "move";
      });
    }
    for (const row of document.querySelectorAll(".pair-row")) {
      const carries = (e) => e.dataTransfer.types.includes("application/x-part");
      row.addEventListener("dragover", (e) => {
        if (carries(e)) {
          e.preventDefault();
          row.classList.add("over");
        }
      });
      row.addEventListener("dragleave", () => row.classList.remove("over"));
      row.addEventListener("drop", (e) => {
        if (!carries(e)) return;
        e.preventDefault();
        this.ask("POST", `${this.base}/parts`, {
          target: "#panel",
          values: { key: e.dataTransfer.getData("application/x-part"), pair: row.dataset.pair },
        });
      });
    }
    for (const button of document.querySelectorAll("[data-menu]")) {
      button.addEventListener("click", () => {
        form.reset();
        form.querySelector("[name=key]").value = button.dataset.menu;
        $("part-menu-name").textContent = button.dataset.menu;
        form.hidden = false;
        button.closest(".part").after(form);
        form.querySelector("select").focus();
      });
    }
    $("part-menu-close").addEventListener("click", () => {
      form.hidden = true;
    });
    $("pair-search")?.addEventListener("input", (e) => {
      const wanted = e.target.value.toLowerCase();
      for (const row of document.querySelectorAll(".pair-row, #alone .part"))
        row.hidden = !row.textContent.toLowerCase().includes(wanted);
    });
  }
}
