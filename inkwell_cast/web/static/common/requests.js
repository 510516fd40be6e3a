// What every page needs: its elements by their id, the step it stands on, and requests that fail in the server's words.
export const $ = (id) => document.getElementById(id);

// The step in force as the step line shows it, and the address of its panel; undefined where there is no step line.
export const step = () => document.querySelector("#steps .here") ?? undefined;
export const stepAddress = () => step()?.getAttribute("hx-get");

// The answer to a request. Raises an Error in the server's words where it refuses.
export async function request(address, options) {
  const response = await fetch(address, options);
  if (!response.ok) throw new Error((await response.json().catch(() => ({}))).error || answered(response.status));
  return response;
}
export async function json(address, options) {
  return (await request(address, options)).json().catch(() => ({}));
}

// Options of a request that sends values as JSON.
export function sending(values, method = "POST") {
  return { method, headers: { "Content-Type": "application/json" }, body: JSON.stringify(values) };
}

// What the server says of a request that it refused, in the words that it gave or by its status.
export function refusal({ status, responseText }) {
  try {
    return JSON.parse(responseText).error || answered(status);
  } catch {
    return answered(status);
  }
}
function answered(status) {
  return `The server answered ${status}.`;
}

// Numbers as the page writes them: three figures, no more.
export const short = (value) => Number(value.toPrecision(3)).toString();
