/**
 * Puts a compressed copy beside each file of the build that gains by one: the service hands
 * out the copy that a browser takes.
 */

import { readdirSync, readFileSync, writeFileSync } from "node:fs";
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
