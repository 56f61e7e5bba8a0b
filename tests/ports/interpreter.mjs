// Runs Python files on a micro-controller's interpreter, in its WebAssembly port: interpreter.mjs PACKAGE MAIN.py FILE.py ...
import { readFileSync } from "node:fs";
import { basename } from "node:path";
import { pathToFileURL } from "node:url";

const [folder, main, ...files] = process.argv.slice(2);
const { loadMicroPython } = await import(pathToFileURL(`${folder}/micropython.mjs`));
const lines = [];
const interpreter = await loadMicroPython({ heapsize: 4 << 20, linebuffer: true, stdout: (line) => lines.push(line) });
for (const file of files) interpreter.FS.writeFile(basename(file), readFileSync(file));
interpreter.runPython(readFileSync(main, "utf8"));
process.stdout.write(lines.map((line) => `${line}\n`).join(""));
