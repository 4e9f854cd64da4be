import { randomUUID } from 'node:crypto';
import { existsSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { isProblem, ProblemError, type Store } from '@uproar/client';
import { keepEnd, type Document, type JsonObject } from '@uproar/core';
import type { Receipt, WireCommit } from '@uproar/protocol';
import { CommandError, EXIT } from '../output/exit-codes.js';
import type { Rewriting } from './rewriting.js';

/** How far a job is. */
export interface JobState {
  /** Identifies a job: its changes, and the documents and store they apply to. */
  what: string;
  /** Documents after this cursor have not been read. */
  after: string | undefined;
  looked: number;
  written: number;
  /** A commit whose outcome is not known yet, and where the job is once it is done. Sent again under its id, it is done once. */
  sending: { commit: WireCommit; looked: number; after: string | undefined } | undefined;
}

/** The number of documents that are read, and at most written, at a time. */
const PAGE = 250;

/** How often a page is read again if others write its documents meanwhile. */
const MAX_ATTEMPTS = 8;

/** A document to change, and its new data. */
export interface Rewritten {
  document: Document;
  data: JsonObject;
}

/** Rewrites the documents of a query page by page. It can be resumed, and writes each page once. */
export class RewriteJob {
  readonly #store: Store;
  readonly #query: { from: string; where?: string | undefined };
  readonly #rewriting: Rewriting;
  readonly #file: string;
  #state: JobState;

  constructor(
    store: Store,
    query: { from: string; where?: string | undefined },
    rewriting: Rewriting,
    file: string,
    state: JobState,
  ) {
    this.#store = store;
    this.#query = query;
    this.#rewriting = rewriting;
    this.#file = file;
    this.#state = state;
  }

  get state(): Readonly<JobState> {
    return this.#state;
  }

  /** Does it to the end. */
  async run(onProgress: (state: JobState) => void): Promise<void> {
    let more = !(await this.#settle());
    for (; more; onProgress(this.#state)) more = await this.#page();
    rmSync(this.#file, { force: true });
  }

  /** A dry run: calls `found` for each document that would change. */
  async preview(found: (rewritten: Rewritten) => void, onProgress: (state: JobState) => void): Promise<void> {
    for (let more = true; more; onProgress(this.#state)) {
      const { documents, next } = await this.#read();
      for (const rewritten of this.#rewrite(documents)) {
        this.#state.written++;
        found(rewritten);
      }
      this.#state.looked += documents.length;
      this.#state.after = next;
      more = next !== undefined;
    }
  }

  /**
   * Finds the outcome of a commit that an interrupted run has sent. If others were faster, its page is read again.
   *
   * @returns whether it was the last page
   */
  async #settle(): Promise<boolean> {
    const { sending } = this.#state;
    if (!sending) return false;
    try {
      await this.#send(sending);
      return sending.after === undefined;
    } catch (error) {
      if (isRefused(error)) this.#note({ sending: undefined });
      if (!isOvertaken(error)) throw error;
      return false;
    }
  }

  async #page(): Promise<boolean> {
    for (let attempt = 1; ; attempt++) {
      const { documents, next } = await this.#read();
      const rewritten = this.#rewrite(documents);
      try {
        if (rewritten.length > 0) {
          const writes = rewritten.map(({ document, data }) => ({
            put: `${this.#query.from}/${document.id}`,
            data,
            ifVersion: document.version,
            ...keepEnd(document),
          }));
          const commit = { id: `rewrite-${randomUUID()}`, writes };
          await this.#send({ commit, looked: this.#state.looked + documents.length, after: next });
        } else this.#note({ after: next, looked: this.#state.looked + documents.length });
        return next !== undefined;
      } catch (error) {
        // After a refusal the outcome is known; after an interruption it is not.
        if (isRefused(error)) this.#note({ sending: undefined });
        if (!isOvertaken(error) || attempt === MAX_ATTEMPTS) throw error;
      }
    }
  }

  #rewrite(documents: readonly Document[]): Rewritten[] {
    return documents.flatMap((document) => {
      const data = this.#rewriting.apply(document, Date.now());
      return data ? { document, data } : [];
    });
  }

  async #read(): Promise<{ documents: Document[]; next: string | undefined }> {
    const { from, where } = this.#query;
    const { after } = this.#state;
    const parts = { limit: PAGE, ...(where === undefined ? {} : { where }), ...(after === undefined ? {} : { after }) };
    const { documents, next } = await this.#store.collection(from).list(parts);
    return { documents: documents as Document[], next };
  }

  /** Sends a commit. The commit is written to the progress file first, so that its outcome can be found out later. */
  async #send(sending: NonNullable<JobState['sending']>): Promise<void> {
    const { commit, looked, after } = sending;
    this.#note({ sending });
    await this.#store.post<Receipt>('/v1/commits', commit);
    this.#note({
      sending: undefined,
      after,
      looked,
      written: this.#state.written + commit.writes.length,
    });
  }

  #note(changes: Partial<JobState>): void {
    this.#state = { ...this.#state, ...changes };
    writeFileSync(`${this.#file}.part`, JSON.stringify(this.#state));
    renameSync(`${this.#file}.part`, this.#file);
  }
}

/** Whether nothing was written, and that is known. */
function isRefused(error: unknown): boolean {
  return error instanceof ProblemError && error.problem.status < 500;
}

/** Whether others have written one of the documents meanwhile. */
function isOvertaken(error: unknown): boolean {
  return isProblem(error, 'version-mismatch') || isProblem(error, 'no-such-document');
}

/**
 * The state of an interrupted job, or a new one.
 *
 * @param what identifies the job
 * @throws {CommandError} when there is an interrupted job and no instruction, or it had other options
 */
export function openJob(file: string, what: string, resume: boolean | undefined): JobState {
  const fresh = { what, looked: 0, written: 0, after: undefined, sending: undefined };
  if (resume === false || (resume === undefined && !existsSync(file))) return fresh;
  if (!existsSync(file)) {
    throw new CommandError(`There is no job in ${file} to resume.`, EXIT.usage, 'Leave --resume out.');
  }
  const earlier = JSON.parse(readFileSync(file, 'utf8')) as JobState;
  if (resume === undefined) {
    throw new CommandError(
      `An earlier job stopped after ${earlier.looked} documents (${file}).`,
      EXIT.usage,
      'Continue with --resume, or start again with --no-resume.',
    );
  }
  if (earlier.what !== what) {
    throw new CommandError(
      `The job in ${file} had other options.`,
      EXIT.usage,
      'Use the same options, or start again with --no-resume.',
    );
  }
  return earlier;
}
