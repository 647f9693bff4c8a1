// Fails where modules of the console import each other in a circle, or a page imports another page.
import { existsSync, readFileSync, readdirSync, statSync } from "node:fs";
import { dirname, join } from "node:path";

const imports = new Map();
function walk(folder) {
  for (const name of readdirSync(folder)) {
    const path = join(folder, name);
    if (statSync(path).isDirectory()) walk(path);
    else if (/\.tsx?$/.test(name)) {
      const found = [...readFileSync(path, "utf8").matchAll(/(?:from|import\()\s*"(\.[^"]+)"/g)].map((m) => join(dirname(path), m[1]));
      imports.set(path, found.flatMap((f) => [`${f}.tsx`, `${f}.ts`].filter(existsSync)));
    }
  }
}

const done = new Set();
let circles = 0;
function visit(path, trail) {
  if (trail.includes(path)) {
    console.error(`circle: ${[...trail.slice(trail.indexOf(path)), path].join(" > ")}`);
    circles++;
    return;
  }
  if (done.has(path)) return;
  for (const next of imports.get(path) ?? []) visit(next, [...trail, path]);
  done.add(path);
}

walk("src");
if (imports.size < 50) throw new Error(`only ${imports.size} modules were found`);
for (const path of imports.keys()) visit(path, []);
const page = (path) => path.match(/^src\/pages\/([^/]+)\//)?.[1];
let strangers = 0;
for (const [path, found] of imports) {
  for (const other of found) {
    if (page(path) && page(other) && page(path) !== page(other)) {
      console.error(`page imports page: ${path} > ${other}`);
      strangers++;
    }
  }
}
process.exit(circles + strangers > 0 ? 1 : 0);
