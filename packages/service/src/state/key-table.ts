import type Database from 'better-sqlite3';
import { problemError, type ProblemError } from '@uproar/protocol';
import type { Refused } from './outcomes.js';
import type { RecordOf } from './records.js';

/**
 * More keys would slow down every request, and suggest a program that creates keys where accounts or tokens are meant.
 */
const MAX_KEYS = 1000;

const INSERT = `
  INSERT INTO keys (id, name, hash, created, scope, collections, expires) VALUES (?, ?, ?, ?, ?, ?, ?)`;
const ROTATE = `
  UPDATE keys SET old_hash = CASE WHEN :oldUntil IS NULL THEN NULL ELSE hash END, old_until = :oldUntil, hash = :hash
  WHERE id = :id`;
const DELETE = 'DELETE FROM keys WHERE id = ?';

/** The keys of a store. They are long and random, so a plain SHA-256 of each is safe to keep. */
export class KeyTable {
  readonly #database: Database.Database;

  constructor(database: Database.Database) {
    this.#database = database;
  }

  create(record: RecordOf<'key-created'>, timeMs: number): { created: boolean } | Refused {
    const { id, name, hash, scope, collections, expiresMs, first } = record;
    const keys = this.#count('SELECT COUNT(*) FROM keys');
    if (first && keys > 0) return { created: false };
    if (this.#count('SELECT COUNT(*) FROM keys WHERE name = ?', name) > 0) {
      return { problem: keyExists(name) };
    }
    if (keys >= MAX_KEYS) {
      return {
        problem: problemError(
          'limit-reached',
          `A store has at most ${MAX_KEYS} keys. Use accounts or tokens for people and devices.`,
        ),
      };
    }
    const only = collections ? JSON.stringify(collections) : null;
    this.#database.prepare(INSERT).run(id, name, bytesOf(hash), timeMs, scope, only, expiresMs ?? null);
    return { created: true };
  }

  /** Gives a key another secret. */
  rotate({ id, hash, oldUntilMs }: RecordOf<'key-rotated'>): { found: boolean } {
    const change = { id, hash: bytesOf(hash), oldUntil: oldUntilMs ?? null };
    return { found: this.#database.prepare(ROTATE).run(change).changes > 0 };
  }

  revoke(id: string): { found: boolean } {
    return { found: this.#database.prepare(DELETE).run(id).changes > 0 };
  }

  #count(sql: string, ...parameters: string[]): number {
    return this.#database
      .prepare<string[], number>(sql)
      .pluck()
      .get(...parameters)!;
  }
}

/** The problem for a name that another key has. */
export function keyExists(name: string): ProblemError {
  return problemError('key-exists', `A key "${name}" exists already. Rotate it, or choose another name.`, {
    pointer: '/name',
  });
}

/** The bytes of a hash as a record carries it. */
export function bytesOf(hash: string): Buffer {
  return Buffer.from(hash, 'base64url');
}
