// Runs the bundled program once, and writes the code that V8 has compiled for it: `node precompile.mjs USE ARGUMENT…`.
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { cacheFor, loadProgram } from './dist/load-program.js';

const [node, , use, ...args] = process.argv;
const bundled = join(import.meta.dirname, 'dist/bundled');
const { script, run } = loadProgram(join(bundled, 'program.cjs'));
process.argv = [node, join(bundled, 'main.js'), ...args];
process.on('exit', () => writeFileSync(cacheFor(use, bundled), script.createCachedData()));
run();
