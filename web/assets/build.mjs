// Builds the committed assets: style sheet, script and fonts, into the folder named.
import { execFileSync } from "node:child_process";
import { copyFileSync, mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { inflateSync } from "node:zlib";
import { join } from "node:path";

const out = process.argv[2];
mkdirSync(join(out, "fonts"), { recursive: true });
const run = (cmd, ...args) => execFileSync(join("node_modules/.bin", cmd), args, { stdio: ["ignore", "ignore", "inherit"] });
run("tailwindcss", "-i", "web/assets/app.css", "-o", join(out, "app.css"), "--minify");
for (const name of ["app", "fields", "live", "bay", "replay", "car", "instruments"])
  run("esbuild", `web/assets/${name}.js`, "--bundle", "--minify", "--format=iife", "--target=es2020", "--legal-comments=none", `--outfile=${join(out, `${name}.js`)}`);
run("esbuild", "web/assets/scheme.js", "--minify", "--target=es2020", `--outfile=${join(out, "scheme.js")}`);

const barlow = "node_modules/@fontsource/barlow-semi-condensed/files/barlow-semi-condensed-latin";
const spline = "node_modules/@fontsource/spline-sans-mono/files/spline-sans-mono-latin";
for (const [from, to] of [[`${barlow}-400-normal`, "text-400"], [`${barlow}-500-normal`, "text-500"], [`${barlow}-600-normal`, "text-600"], [`${spline}-400-normal`, "figures-400"], [`${spline}-500-normal`, "figures-500"]])
  copyFileSync(`${from}.woff2`, join(out, "fonts", `${to}.woff2`));

// The PDF report embeds TrueType; WOFF 1 is TrueType with each table deflated.
function trueType(woff) {
  const n = woff.readUInt16BE(12);
  const tables = [];
  for (let i = 0; i < n; i++) {
    const o = 44 + 20 * i;
    const [offset, comp, orig] = [woff.readUInt32BE(o + 4), woff.readUInt32BE(o + 8), woff.readUInt32BE(o + 12)];
    const raw = woff.subarray(offset, offset + comp);
    tables.push({ tag: woff.subarray(o, o + 4), sum: woff.readUInt32BE(o + 16), data: comp < orig ? inflateSync(raw) : raw });
  }
  const head = Buffer.alloc(12 + 16 * n);
  head.writeUInt32BE(woff.readUInt32BE(4), 0);
  head.writeUInt16BE(n, 4);
  const pow = 2 ** Math.floor(Math.log2(n));
  head.writeUInt16BE(pow * 16, 6);
  head.writeUInt16BE(Math.log2(pow), 8);
  head.writeUInt16BE(n * 16 - pow * 16, 10);
  let at = head.length;
  const parts = [head];
  tables.forEach((t, i) => {
    const o = 12 + 16 * i;
    t.tag.copy(head, o);
    head.writeUInt32BE(t.sum, o + 4);
    head.writeUInt32BE(at, o + 8);
    head.writeUInt32BE(t.data.length, o + 12);
    const pad = Buffer.alloc((4 - (t.data.length % 4)) % 4);
    parts.push(t.data, pad);
    at += t.data.length + pad.length;
  });
  return Buffer.concat(parts);
}
for (const [from, to] of [[`${barlow}-400-normal`, "text"], [`${barlow}-600-normal`, "bold"], [`${spline}-400-normal`, "figures"]])
  writeFileSync(join(out, "fonts", `${to}.ttf`), trueType(readFileSync(`${from}.woff`)));
