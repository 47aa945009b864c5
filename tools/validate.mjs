// Checks glTF files by the standard's validator, one line of JSON a file: node tools/validate.mjs VALIDATOR FILE...
import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';

const validator = createRequire(import.meta.url)(process.argv[2]);
for (const file of process.argv.slice(3)) {
  const { issues } = await validator.validateBytes(new Uint8Array(readFileSync(file)));
  console.log(JSON.stringify({
    file,
    errors: issues.numErrors,
    warnings: issues.numWarnings,
    notes: issues.numInfos + issues.numHints,
    messages: issues.messages.map((m) => `${m.code} at ${m.pointer}: ${m.message}`),
  }));
}
