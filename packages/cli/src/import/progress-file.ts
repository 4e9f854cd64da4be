import { existsSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** The progress of an import, sufficient to resume it. */
export interface Progress {
  /** Names the import; the ids of its commits are made of it, so that none is applied twice. */
  run: string;
  collection: string;
  onConflict: string;
  /** The file as it was. */
  sizeBytes: number;
  modifiedMs: number;
  /** The number of rows from the beginning that are done. */
  rows: number;
  written: number;
  kept: number;
}

/** How often progress is written down, in milliseconds. */
const INTERVAL_MS = 200;

/** Keeps the progress of an import in a file beside the one that is brought in, until the import is complete. */
export class ProgressFile {
  readonly #file: string;
  #progress: Progress;
  #writtenAt = performance.now();

  private constructor(file: string, progress: Progress) {
    this.#file = file;
    this.#progress = progress;
  }

  /**
   * Starts an import, or resumes an interrupted one.
   *
   * @throws {CommandError} when there is an interrupted import and `resume` was not given, or its options differ
   */
  static open(
    path: string,
    what: Pick<Progress, 'run' | 'collection' | 'onConflict'>,
    resume: boolean | undefined,
  ): ProgressFile {
    const file = `${path}.import-progress`;
    const { size, mtimeMs } = statSync(path);
    const fresh: Progress = { ...what, sizeBytes: size, modifiedMs: mtimeMs, rows: 0, written: 0, kept: 0 };
    if (resume === false || (resume === undefined && !existsSync(file))) return new ProgressFile(file, fresh);
    if (!existsSync(file)) {
      throw new CommandError(`There is no import of ${path} to resume.`, EXIT.usage, 'Leave --resume out.');
    }
    const earlier = JSON.parse(readFileSync(file, 'utf8')) as Progress;
    if (resume === undefined) {
      throw new CommandError(
        `An earlier import of ${path} stopped after row ${earlier.rows}.`,
        EXIT.usage,
        'Continue with --resume, or start again with --no-resume.',
      );
    }
    for (const [name, was, is] of [
      ['collection', earlier.collection, what.collection],
      ['--on-conflict', earlier.onConflict, what.onConflict],
    ]) {
      if (was !== is) {
        throw new CommandError(
          `The earlier import of ${path} had another ${name}: ${was}.`,
          EXIT.usage,
          'Use the same options, or start again with --no-resume.',
        );
      }
    }
    if (earlier.sizeBytes !== size || earlier.modifiedMs !== mtimeMs) {
      throw new CommandError(
        `${path} has changed since its import stopped after row ${earlier.rows}.`,
        EXIT.usage,
        'Start again with --no-resume.',
      );
    }
    return new ProgressFile(file, earlier);
  }

  get progress(): Readonly<Progress> {
    return this.#progress;
  }

  /** Notes how far the import is. */
  note(progress: Pick<Progress, 'rows' | 'written' | 'kept'>): void {
    this.#progress = { ...this.#progress, ...progress };
    if (performance.now() - this.#writtenAt >= INTERVAL_MS) this.write();
  }

  /** Writes the progress down. */
  write(): void {
    this.#writtenAt = performance.now();
    try {
      writeFileSync(`${this.#file}.part`, JSON.stringify(this.#progress) + '\n');
      renameSync(`${this.#file}.part`, this.#file);
    } catch (error) {
      // If the progress file cannot be written, the import continues but cannot be resumed.
      if (!['EACCES', 'EROFS', 'EPERM', 'ENOSPC'].includes(String((error as NodeJS.ErrnoException).code))) throw error;
    }
  }

  /** Removes the file: the import is complete. */
  finish(): void {
    rmSync(this.#file, { force: true });
  }
}
