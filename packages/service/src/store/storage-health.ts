import { createProblem, ProblemError, type Problem } from '@uproar/protocol';

/** What a full or failing disk, or a damaged file, answers: codes of SQLite by how they begin, and of the system. */
const DAMAGED = /^SQLITE_(?:CORRUPT|NOTADB)/;
const FAILING = /^SQLITE_(?:FULL|IOERR|READONLY|CANTOPEN)|^(?:ENOSPC|EDQUOT|EIO|EROFS)$/;

/** What a trial writes at least and at most, in bytes, to find out whether the store can be written to again. */
const TRIAL_BYTES = { least: 256 * 1024, most: 16 * 1024 * 1024 };

/** The problem for a damaged part of the file. */
const DAMAGE =
  'The file of the store is damaged. Stop the service, check the store with "uproar check", and restore a backup.';

/**
 * The problem for a failure of the disk.
 *
 * @returns undefined for other errors
 */
export function storageProblem(error: unknown): Problem | undefined {
  const { code } = (error ?? {}) as { code?: unknown };
  if (typeof code !== 'string') return undefined;
  if (DAMAGED.test(code)) return createProblem('storage-failed', DAMAGE);
  if (!FAILING.test(code)) return undefined;
  return createProblem(
    'storage-failed',
    `Nothing was written: ${failureReason(error)}. Free space or repair the disk, then send the request again.`,
  );
}

/** What is wrong with the disk, in a few words. */
function failureReason(error: unknown): string {
  const { code, message } = error as { code: string; message?: string };
  const full = code === 'SQLITE_FULL' || code === 'ENOSPC' || code === 'EDQUOT';
  return full ? 'the disk is full' : `${message ?? 'the disk failed'} (${code})`;
}

/** Whether a store can be written to: what failed last, and whether its file is damaged. */
export class StorageHealth {
  #damage: ProblemError | undefined;
  #failure: ProblemError | undefined;
  #failedBytes = 0;
  #reason = '';
  /** Called once when damage is found. */
  onDamage: (detail: string) => void = () => undefined;

  /** Why nothing may be written any more: a part of the file is damaged. */
  get damage(): ProblemError | undefined {
    return this.#damage;
  }

  /** Why the store cannot be written to or must not be; undefined while it can. */
  get failure(): ProblemError | undefined {
    return this.#damage ?? this.#failure;
  }

  /** Why the store cannot be written to, in a few words; undefined while it can. */
  get reason(): string | undefined {
    if (this.#damage) return 'its file is damaged, or a sync failed';
    return this.#failure && this.#reason;
  }

  /**
   * Notes an error, if it is one of the disk.
   *
   * @param bytes about how much was to be written
   * @returns the problem to answer with; undefined for other errors
   */
  note(error: unknown, bytes = 0): ProblemError | undefined {
    const problem = storageProblem(error);
    if (!problem) return undefined;
    const failure = new ProblemError(problem);
    if (DAMAGED.test((error as { code: string }).code)) this.noteDamage(String((error as Error).message));
    else {
      this.#failure = failure;
      this.#reason = failureReason(error);
      this.#failedBytes = Math.max(this.#failedBytes, bytes);
    }
    return failure;
  }

  /** Notes that a part of the file is damaged. From now on nothing is written. */
  noteDamage(detail: string): void {
    if (this.#damage) return;
    this.#damage = new ProblemError(createProblem('storage-failed', DAMAGE));
    this.onDamage(detail);
  }

  /** Notes that a sync failed. From now on nothing is written: what is on disk is known again after the next start. */
  noteFailedSync(error: Error): ProblemError {
    this.#damage ??= new ProblemError(
      createProblem(
        'storage-failed',
        `Writing to the disk failed (${error.message}), so it is unknown whether the last commits are on it. Check the disk and restart the service, then send them again with the same ids.`,
      ),
    );
    this.onDamage(error.message);
    return this.#damage;
  }

  /** Notes that something was written. */
  noteWritten(): void {
    this.#failure = undefined;
    this.#failedBytes = 0;
  }

  /**
   * Finds out, after a failure, whether as many bytes can be written again as failed last.
   *
   * @param write writes this many bytes and removes them again
   */
  async recover(write: (bytes: number) => Promise<void>): Promise<boolean> {
    if (this.#damage) return false;
    if (!this.#failure) return true;
    try {
      await write(Math.min(TRIAL_BYTES.most, Math.max(TRIAL_BYTES.least, this.#failedBytes)));
      this.noteWritten();
      return true;
    } catch (error) {
      this.note(error);
      return false;
    }
  }
}
