import { execFileSync } from 'node:child_process';
import { existsSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

/** A disk whose syncs are slow, for a process that is started with its {@link environment}. */
export class SlowDisk {
  readonly environment: Record<string, string>;
  readonly #counts: string;
  readonly #failing: string;

  /** @param workspace a directory for the compiled library and the count */
  constructor(workspace: string, delayMs: number) {
    const library = join(workspace, 'slow-syncs.so');
    this.#counts = join(workspace, 'syncs');
    this.#failing = join(workspace, 'syncs-fail');
    const source = new URL('slow-syncs.c', import.meta.url).pathname;
    execFileSync('cc', ['-shared', '-fPIC', '-O2', '-o', library, source, '-ldl']);
    this.environment = {
      LD_PRELOAD: library,
      SYNC_DELAY_MS: String(delayMs),
      SYNC_COUNT_FILE: this.#counts,
      SYNC_FAIL_FILE: this.#failing,
      // Otherwise Node.js may hand syncs to the kernel past the library.
      UV_USE_IO_URING: '0',
    };
  }

  /** Whether syncs of write-ahead logs fail from now on. */
  setFailing(fail: boolean): void {
    if (fail) writeFileSync(this.#failing, '');
    else rmSync(this.#failing, { force: true });
  }

  /** The number of syncs of write-ahead logs so far. */
  get syncs(): number {
    return existsSync(this.#counts) ? statSync(this.#counts).size : 0;
  }
}
