import type Database from 'better-sqlite3';
import type { Document, Refusal, Write } from '@uproar/core';

/** The collection whose documents have content. */
export const FILES = 'files';

const RECEIVE = `
  INSERT INTO contents (sha256, size, uses, unused, received) VALUES (?, ?, 0, ?, ?)
  ON CONFLICT (sha256) DO UPDATE
  SET unused = CASE WHEN uses = 0 THEN excluded.unused END, received = excluded.received`;
const RELEASE = `
  UPDATE contents SET uses = uses - 1, unused = CASE WHEN uses = 1 THEN ? END WHERE sha256 = ?`;
const USE = 'UPDATE contents SET uses = uses + 1, unused = NULL WHERE sha256 = ?';
const REMOVE = 'DELETE FROM contents WHERE sha256 = ? AND uses = 0 AND received = ?';
const REMOVE_UNUSED = 'DELETE FROM contents WHERE sha256 = ? AND uses = 0';
const SIZE_OF = 'SELECT size FROM contents WHERE sha256 = ?';

/** The contents of files, by hash: how large each is, and how many documents have it. */
export class BlobTable {
  readonly #receive: Database.Statement<[string, number, number, number]>;
  readonly #release: Database.Statement<[number, string]>;
  readonly #use: Database.Statement<[string]>;
  readonly #remove: Database.Statement<[string, number]>;
  readonly #removeUnused: Database.Statement<[string]>;
  readonly #sizeOf: Database.Statement<[string], number>;

  constructor(database: Database.Database) {
    this.#receive = database.prepare(RECEIVE);
    this.#release = database.prepare(RELEASE);
    this.#use = database.prepare(USE);
    this.#remove = database.prepare(REMOVE);
    this.#removeUnused = database.prepare(REMOVE_UNUSED);
    this.#sizeOf = database.prepare<[string], number>(SIZE_OF).pluck();
  }

  /** @param place the place of the record in the log; a removal names it, so it does not affect a later upload */
  receive(sha256: string, sizeBytes: number, timeMs: number, place: number): void {
    this.#receive.run(sha256, sizeBytes, timeMs, place);
  }

  /** Updates the use counts of contents for a change of a file. */
  count(before: Document | undefined, after: Document | undefined, timeMs: number): void {
    const [was, is] = [hashOf(before), hashOf(after)];
    if (was === is) return;
    if (was !== undefined) this.#release.run(timeMs, was);
    if (is !== undefined) this.#use.run(is);
  }

  /** Removes a content if no document has it and it was not received again. Returns whether it was removed. */
  remove(sha256: string, received: number): boolean {
    return this.#remove.run(sha256, received).changes > 0;
  }

  /** Removes a content that no document has any more, however short it has been so. Returns whether it was removed. */
  removeUnused(sha256: string): boolean {
    return this.#removeUnused.run(sha256).changes > 0;
  }

  /**
   * The reason why a write to the files is refused: only an upload sets hash and size, so no caller gets a content by
   * naming its hash.
   *
   * @param trusted whether the writer may restore a content that still exists
   */
  findFault(
    { collection, id, content }: Write,
    before: Document | undefined,
    after: Document | undefined,
    trusted: boolean,
  ): Refusal | undefined {
    if (!after) return undefined;
    const currentVersion = before?.version ?? 0;
    const refused = { kind: 'bad-document', collection, id, currentVersion, pointer: '/sha256' } as const;
    const hash = hashOf(after);
    const size = hash === undefined ? undefined : this.#sizeOf.get(hash);
    if (content !== undefined && content === hash) {
      if (size !== undefined) return undefined;
      return { ...refused, detail: `The content of ${collection}/${id} has been removed. Upload it again.` };
    }
    const [was, is] = [before?.data ?? {}, after.data];
    if (is.sha256 === was.sha256 && is.size === was.size) return undefined;
    if (trusted && size !== undefined && size === is.size) return undefined;
    const detail = `The size and the hash of ${collection}/${id} are computed from its content. Leave "size" and "sha256" unchanged, and upload new content to /v1/files/${id}/content.`;
    return { ...refused, detail };
  }
}

/** The hash of the content of a file. */
export function hashOf(document: Pick<Document, 'data'> | undefined): string | undefined {
  const hash = document?.data.sha256;
  return typeof hash === 'string' && /^[0-9a-f]{64}$/.test(hash) ? hash : undefined;
}
