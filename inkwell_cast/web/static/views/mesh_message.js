// Meshes as the server sends them: a length, a JSON header, and arrays viewed in place.
import { request } from "../common/requests.js";

const TYPES = { float32: Float32Array, uint32: Uint32Array, int32: Int32Array, uint8: Uint8Array };

// One message of the server: a length, a JSON header, arrays viewed in place.
export async function fetchMesh(address) {
  const response = await request(address);
  if (response.status === 204) return null; // given up: something newer was asked for
  return parseMesh(await response.arrayBuffer());
}

export function parseMesh(data) {
  const size = new DataView(data).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, size)));
  const arrays = {};
  for (const [name, a] of Object.entries(header.arrays)) {
    arrays[name] = new TYPES[a.type](
      data,
      4 + size + a.offset,
      a.shape.reduce((x, y) => x * y, 1),
    );
  }
  return { header, arrays };
}
