import type Database from 'better-sqlite3';
import { problemError } from '@uproar/protocol';
import type { Refused } from './outcomes.js';
import type { RecordOf } from './records.js';
import { refusalOf } from './refuse.js';

/** Each hook reads the journal and sends on its own. */
const MAX_HOOKS = 100;

const INSERT = `
  INSERT INTO hooks (id, name, created, definition, secret, run, seq, open) VALUES (?, ?, ?, ?, ?, 1, ?, '[]')`;
const DEFINE = 'UPDATE hooks SET definition = ? WHERE id = ?';
const PAUSE = 'UPDATE hooks SET paused = ? WHERE id = ?';
const MOVE = "UPDATE hooks SET run = run + 1, seq = ?, open = '[]', missed = NULL WHERE id = ?";
const ROTATE = `
  UPDATE hooks SET old_secret = CASE WHEN :oldUntil IS NULL THEN NULL ELSE secret END, old_until = :oldUntil,
    secret = :secret
  WHERE id = :id`;
const PROGRESS = 'UPDATE hooks SET seq = ?, open = ?, missed = ? WHERE id = ? AND run = ?';
const DELETE = 'DELETE FROM hooks WHERE id = ?';

/** The hooks of a store, and how far each has come. */
export class HookTable {
  readonly #database: Database.Database;

  constructor(database: Database.Database) {
    this.#database = database;
  }

  /** @param seq that of the store */
  create(record: RecordOf<'hook-created'>, timeMs: number, seq: number): { seq: number } | Refused {
    const { id, name, definition, secret } = record;
    const refused = refusalOf(() => this.check(record));
    if (refused) return refused;
    const after = Math.min(record.after ?? seq, seq);
    this.#database.prepare(INSERT).run(id, name, timeMs, JSON.stringify(definition), secret, after);
    return { seq: after };
  }

  /**
   * Whether a record would be refused.
   *
   * @param more hooks that are created before it
   * @throws {ProblemError} `hook-exists`, `limit-reached`, or `no-such-hook`
   */
  check(record: RecordOf<'hook-created' | 'hook-changed' | 'hook-removed'>, more = 0): undefined {
    if (record.kind !== 'hook-created') {
      if (this.#read('SELECT 1 FROM hooks WHERE id = ?', record.id) !== undefined) return;
      throw problemError('no-such-hook', 'A hook does not exist any more.');
    }
    const { id, name } = record;
    if (this.#read('SELECT 1 FROM hooks WHERE id = ? OR name = ?', id, name) !== undefined) {
      const detail = `A hook "${name}" exists already. Change it, or choose another name.`;
      throw problemError('hook-exists', detail, { pointer: '/name' });
    }
    if (this.#read('SELECT COUNT(*) FROM hooks')! + more >= MAX_HOOKS) {
      throw problemError('limit-reached', `A store has at most ${MAX_HOOKS} hooks.`);
    }
  }

  change({ id, definition, paused, after, ifRun }: RecordOf<'hook-changed'>, timeMs: number): { found: boolean } {
    const run = this.#read('SELECT run FROM hooks WHERE id = ?', id);
    if (run === undefined || (ifRun !== undefined && run !== ifRun)) return { found: false };
    if (definition !== undefined) this.#database.prepare(DEFINE).run(JSON.stringify(definition), id);
    if (paused !== undefined) {
      this.#database.prepare(PAUSE).run(paused === null ? null : JSON.stringify({ timeMs, reason: paused }), id);
    }
    if (after !== undefined) this.#database.prepare(MOVE).run(after, id);
    return { found: true };
  }

  rotate({ id, secret, oldUntilMs }: RecordOf<'hook-rotated'>): { found: boolean } {
    return { found: this.#database.prepare(ROTATE).run({ id, secret, oldUntil: oldUntilMs ?? null }).changes > 0 };
  }

  remove(id: string): { found: boolean } {
    return { found: this.#database.prepare(DELETE).run(id).changes > 0 };
  }

  setProgress({ hooks }: RecordOf<'hook-progress'>): void {
    const write = this.#database.prepare(PROGRESS);
    for (const { id, run, seq, open, missed } of hooks) {
      write.run(seq, JSON.stringify(open), missed ? JSON.stringify(missed) : null, id, run);
    }
  }

  #read(sql: string, ...parameters: string[]): number | undefined {
    return this.#database
      .prepare<string[], number>(sql)
      .pluck()
      .get(...parameters);
  }
}
