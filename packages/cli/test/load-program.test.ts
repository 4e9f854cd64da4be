import { execFileSync } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect } from 'chai';
import { cacheFor } from '../dist/load-program.js';
import { temporaryDirectory } from '../../../test/service.js';

const DIST = new URL('../dist', import.meta.url).pathname;
const PROGRAM = join(DIST, 'bundled/program.cjs');

/** Loads the program in a process of its own, since V8 remembers what it has compiled. Returns whether it took the code. */
function takes(cacheFile: string): string {
  const code = `
    import { loadProgram } from ${JSON.stringify(join(DIST, 'load-program.js'))};
    const { script } = loadProgram(${JSON.stringify(PROGRAM)}, ${JSON.stringify(cacheFile)});
    console.log(typeof script.runInThisContext(), { true: 'refused', false: 'taken' }[script.cachedDataRejected]);`;
  return execFileSync(process.execPath, ['--input-type=module', '-e', code], { encoding: 'utf8' }).trim();
}

describe('the program that is compiled in advance', () => {
  it('has code that this Node.js takes', () => {
    for (const use of ['commands', 'service'] as const) {
      expect(takes(cacheFor(use, join(DIST, 'bundled'))), use).to.equal('function taken');
    }
  });

  it('is compiled at the start where that code is missing, or not of this version', () => {
    const directory = temporaryDirectory();
    const file = join(directory.path, 'other.cache');
    expect(takes(file)).to.equal('function undefined');
    writeFileSync(file, randomBytes(10_000));
    expect(takes(file)).to.equal('function refused');
    directory.remove();
  });
});
