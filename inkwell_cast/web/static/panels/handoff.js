// The step Handoff: maps dragged into wells, tokens, receivers from files, and the archive that is made and fetched.
import { $, request, stepAddress } from "../common/requests.js";

export class HandoffPanel {
  constructor(base, { ask, json, toast, sayProgress }) {
    Object.assign(this, { base, ask, json, toast, sayProgress });
    document.body.addEventListener("dragstart", (e) => {
      const chip = e.target.closest?.(".map-chip");
      if (!chip) return;
      e.dataTransfer.setData("application/x-map", chip.dataset.key);
      e.dataTransfer.effectAllowed = "copy";
    });
    document.body.addEventListener("change", (e) => {
      if (e.target.matches(".puts")) this.put(e.target);
    });
    document.body.addEventListener("click", (e) => this.clicked(e));
    document.body.addEventListener("htmx:beforeRequest", (e) => {
      if (e.target.matches?.(".hands")) this.busy(true);
    });
    document.body.addEventListener("htmx:afterRequest", (e) => {
      if (e.target.matches?.(".hands")) this.busy(false);
    });
    this.tend();
  }

  // Wells and fields of a panel that was drawn anew.
  tend() {
    for (const well of document.querySelectorAll(".well:not([data-tended])")) {
      well.dataset.tended = "yes";
      const carries = (e) => e.dataTransfer.types.includes("application/x-map");
      well.addEventListener("dragover", (e) => {
        if (carries(e)) {
          e.preventDefault();
          well.classList.add("over");
        }
      });
      well.addEventListener("dragleave", () => well.classList.remove("over"));
      well.addEventListener("drop", (e) => {
        if (!carries(e)) return;
        e.preventDefault();
        this.ask("POST", well.dataset.address, {
          target: "#panel",
          values: { take: `${e.dataTransfer.getData("application/x-map")}.red` },
        });
      });
    }
    const choice = document.querySelector("select[name=receiver]"),
      words = $("receiver-does");
    if (!choice || !words || choice.dataset.tended) return;
    choice.dataset.tended = "yes";
    const does = JSON.parse($("receivers-do").textContent),
      here = choice.value,
      now = words.textContent;
    choice.addEventListener("change", () => {
      words.textContent = does[choice.value] || now;
      $("use-receiver").hidden = !choice.value || choice.value === here;
    });
  }

  busy(on) {
    const line = $("handing");
    this.done?.();
    this.done = null;
    if (!line) return;
    line.hidden = !on;
    for (const button of document.querySelectorAll("#hand-off, #fetch-zip")) button.disabled = on;
    if (on) this.done = this.sayProgress(() => line.firstElementChild);
  }

  async clicked(e) {
    const token = e.target.closest("[data-token]")?.dataset.token,
      field = $("pattern");
    if (token && field) {
      const at = field.selectionStart || field.value.length; // a field that was drawn anew has its caret at 0
      field.setRangeText(`{${token}}`, at, Math.max(at, field.selectionEnd), "end");
      field.focus();
      field.dispatchEvent(new Event("change", { bubbles: true }));
    } else if (e.target.id === "handing-cancel") {
      await request(`${this.base}/handoff/cancel`, { method: "POST" }).catch(() => {}); // it has ended
    } else if (e.target.id === "fetch-zip") {
      this.busy(true);
      try {
        const { address } = await this.json(`${this.base}/handoff/archive?bake=${e.target.dataset.bake}`, {
          method: "POST",
        });
        const link = document.createElement("a");
        link.href = address;
        link.download = "";
        link.click();
      } catch (error) {
        if (!/Cancelled/.test(error.message)) this.toast(error.message);
      }
      this.busy(false);
    }
  }

  // A JSON file goes to the server as it is; what it becomes is in the next panel.
  async put(input) {
    const file = input.files[0];
    input.value = "";
    if (!file) return;
    try {
      const made = await this.json(`${input.dataset.address}?name=${encodeURIComponent(file.name)}`, {
        method: "PUT",
        body: file,
      });
      await this.ask("GET", stepAddress(), "#panel");
      this.toast(made.name ? `“${made.name}” is among your own receivers.` : `${file.name} was taken in.`);
    } catch (error) {
      this.toast(error.message);
    }
  }
}
