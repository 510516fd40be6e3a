// Checks GLB files with the public glTF validator: one line of JSON a file, with its counts and messages.
const fs = require("fs");
const { validateBytes } = require("gltf-validator");

(async () => {
  for (const path of process.argv.slice(2)) {
    const { issues } = await validateBytes(new Uint8Array(fs.readFileSync(path)), { maxIssues: 20 });
    const said = issues.messages.map((m) => `${m.code} ${m.pointer || ""} ${m.message}`);
    console.log(JSON.stringify({ errors: issues.numErrors, warnings: issues.numWarnings, infos: issues.numInfos, said }));
  }
})();
