import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { Script } from 'node:vm';

/** The bundled program, read but not run yet. */
export interface LoadedProgram {
  script: Script;
  run(): void;
}

/** What the script of the program evaluates to: a function with the variables of a CommonJS module. */
type ProgramFunction = (
  require: NodeJS.Require,
  module: { exports: object },
  exports: object,
  filename: string,
  dirname: string,
  url: string,
) => void;

/** The file with the compiled code for one use of the program. Each version of Node.js and each kind of processor needs its own. */
export function cacheFor(use: 'commands' | 'service', directory: string): string {
  return join(directory, `${use}-${process.version}-${process.platform}-${process.arch}.cache`);
}

/**
 * Reads the bundled program.
 *
 * @param file the script, which has ASCII characters only
 * @param cacheFile its compiled code. It is ignored if it does not exist, or Node.js does not accept it.
 */
export function loadProgram(file: string, cacheFile?: string): LoadedProgram {
  const cachedData = cacheFile === undefined ? undefined : readIfThere(cacheFile);
  const script = new Script(readFileSync(file, 'latin1'), { filename: file, ...(cachedData ? { cachedData } : {}) });
  return {
    script,
    run() {
      const module = { exports: {} };
      const program = script.runInThisContext() as ProgramFunction;
      program(createRequire(file), module, module.exports, file, dirname(file), pathToFileURL(file).href);
    },
  };
}

function readIfThere(file: string): Buffer | undefined {
  try {
    return readFileSync(file);
  } catch {
    return undefined;
  }
}
