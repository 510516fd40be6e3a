// Pictures from elsewhere go to the server, and what it made of them comes back as a download.
import { request } from "../common/requests.js";

export function sendPictures(toast) {
  document.body.addEventListener("submit", async (e) => {
    const form = e.target;
    if (!form.matches(".sends")) return;
    e.preventDefault();
    const button = form.querySelector("button"),
      { address, query } = form.dataset,
      input = form.querySelector("input[type=file]");
    button.disabled = true;
    try {
      const body = new FormData();
      for (const file of [...input.files].sort((a, b) => a.name.localeCompare(b.name))) body.append(input.name, file);
      const response = await request(`${address}?${query}=${form.elements[query].value}`, { method: "POST", body });
      const link = document.createElement("a"),
        said = decodeURIComponent(response.headers.get("X-Said") || "");
      link.href = URL.createObjectURL(await response.blob());
      link.download = /filename="(.*)"/.exec(response.headers.get("Content-Disposition"))[1];
      link.click();
      setTimeout(() => URL.revokeObjectURL(link.href), 1000);
      if (said) toast(said);
    } catch (error) {
      toast(error.message);
    }
    button.disabled = false;
  });
}
