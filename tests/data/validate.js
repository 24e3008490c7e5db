// node validate.js FOLDER_OF_VALIDATOR FILE.glb: prints the validator's report as JSON
const validator = require(require("path").resolve(process.argv[2], "node_modules/gltf-validator"));
const bytes = new Uint8Array(require("fs").readFileSync(process.argv[3]));
validator.validateBytes(bytes).then((report) => console.log(JSON.stringify(report)));
