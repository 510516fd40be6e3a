// Reads float32 positions, normals and UVs of unindexed triangles from files, writes tangents: the independent
// implementation that tests/core/test_basis.py compares with.
const fs = require("fs");
const { generateTangents } = require("mikktspace");
const floats = (name) => new Float32Array(new Uint8Array(fs.readFileSync(name)).buffer);
const [positions, normals, uvs, out] = process.argv.slice(2);
fs.writeFileSync(out, Buffer.from(generateTangents(floats(positions), floats(normals), floats(uvs)).buffer));
