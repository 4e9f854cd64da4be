#!/usr/bin/env node
// Starts the bundled program with code that was compiled in advance.
import { join } from 'node:path';
import { cacheFor, loadProgram } from './load-program.js';

const here = import.meta.dirname;
const isService = ['serve', 'demo'].includes(process.argv[2] ?? '');
loadProgram(join(here, 'program.cjs'), cacheFor(isService ? 'service' : 'commands', here)).run();
