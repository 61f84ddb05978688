/**
 * Finishes the build. It puts a compressed copy beside each file that gains by one: the service
 * hands out the copy that a browser takes. To the licences that the build has found it adds those
 * of what comes into it in another way, as styles or in workers, and those of the programs, of
 * which the core runs in the browser.
 */

import { appendFileSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

const folder = "dist/assets";
for (const name of readdirSync(folder)) {
  if (!/\.(js|css|wasm)$/.test(name)) continue;
  const path = join(folder, name);
  const content = readFileSync(path);
  // The best takes half a minute for the core, and a tenth less to load.
  const quality = content.length > 4 << 20 ? 9 : 11;
  writeFileSync(`${path}.br`, brotliCompressSync(content, { params: { [constants.BROTLI_PARAM_QUALITY]: quality } }));
  writeFileSync(`${path}.gz`, gzipSync(content, { level: 9 }));
}

const licences = "dist/licences.txt";
const found = readFileSync(licences, "utf8");
const { dependencies } = JSON.parse(readFileSync("package.json", "utf8"));
for (const name of [...Object.keys(dependencies), "tailwindcss", "daisyui"].sort()) {
  if (found.includes(`## ${name} - `)) continue;
  const dir = join("node_modules", name);
  const { version, license } = JSON.parse(readFileSync(join(dir, "package.json"), "utf8"));
  const file = readdirSync(dir).find((f) => /^licen[sc]e(\.(md|txt))?$/i.test(f));
  if (!file) throw new Error(`${name} has no licence, so that it cannot be shipped`);
  appendFileSync(licences, `\n## ${name} - ${version} (${license})\n\n${readFileSync(join(dir, file), "utf8").trim()}\n`);
}
appendFileSync(licences, `\n${readFileSync("../internal/licences/collected/licences.txt", "utf8")}`);
