// Compresses what the build made, so that the service need not do it again and again: beside each text stand its forms by RFC 7932
// (br) and RFC 1952 (gz). Fonts are compressed in themselves.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, gzipSync } from "node:zlib";

const assets = join(import.meta.dirname, "dist", "assets");
for (const name of readdirSync(assets)) {
  if (!/\.(js|css|svg)$/.test(name)) continue;
  const content = readFileSync(join(assets, name));
  writeFileSync(join(assets, `${name}.br`), brotliCompressSync(content));
  writeFileSync(join(assets, `${name}.gz`), gzipSync(content, { level: 9 }));
}
