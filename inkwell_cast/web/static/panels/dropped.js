// Mesh files dropped anywhere on an open piece: asked what each is, then taken in.
import { $, json, sending } from "../common/requests.js";
import { acceptedBy, belongs, filesOf, send } from "./upload.js";

export class Dropped {
  // `changed(said)` is called when files were taken in.
  constructor(base, { toast, changed }) {
    Object.assign(this, { base, toast, changed, dialog: $("dropped") });
    window.addEventListener("dragover", (e) => this.carries(e) && e.preventDefault());
    window.addEventListener("drop", (e) => {
      if (!this.carries(e) || e.defaultPrevented) return; // a field of the panel takes its own
      e.preventDefault();
      this.ask(e.dataTransfer).catch((error) => toast(error.message));
    });
    this.dialog.querySelector("form").addEventListener("submit", (e) => {
      if (e.submitter?.value === "take") this.take();
    });
  }

  carries(e) {
    return e.dataTransfer?.types.includes("Files");
  }

  async ask(transfer) {
    const accepted = acceptedBy({ accept: $("table").dataset.accept });
    this.files = (await filesOf(transfer, accepted)).filter((file) => accepted(file.name));
    if (!this.files.length) throw new Error("No mesh is among what was dropped. OBJ, PLY, STL, glTF, FBX and USD are.");
    const { files } = await json(`${this.base}/state`),
      list = this.dialog.querySelector("ul");
    list.replaceChildren(
      ...this.files.map((file) => {
        const row = document.createElement("li"),
          name = document.createElement("b"),
          choice = document.createElement("select");
        name.textContent = name.title = file.name;
        choice.setAttribute("aria-label", `What ${file.name} is`);
        choice.add(new Option("a new part", ""));
        for (const { id, name: there } of files)
          choice.add(new Option(`in place of ${there}`, id, there === file.name, there === file.name));
        row.append(name, choice);
        return row;
      }),
    );
    this.dialog.returnValue = "";
    this.dialog.showModal();
    this.dialog.querySelector("[value=take]").focus();
  }

  async take() {
    const batch = Math.random().toString(36).slice(2),
      choices = [...this.dialog.querySelectorAll("select")].map((choice) => choice.value),
      said = [];
    // what belongs to a mesh goes before it
    const order = this.files.map((file, n) => [file, choices[n]]).sort(([a], [b]) => belongs(b) - belongs(a));
    for (const [file, mesh] of order) {
      this.toast(`Reading ${file.name} …`);
      try {
        const { token, companion } = await send(file, batch, () => {});
        if (companion) continue;
        const address = mesh ? `meshes/${mesh}/replace` : "meshes";
        said.push(...(await json(`${this.base}/${address}`, sending({ token }))).said);
      } catch (error) {
        said.push(error.message);
      }
    }
    this.toast("");
    await this.changed(said);
  }
}
