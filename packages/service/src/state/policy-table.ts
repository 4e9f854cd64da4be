import type Database from 'better-sqlite3';
import { CLOSED, type Policy } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { parsePolicy } from './parse-policy.js';
import { refusalOf } from './refuse.js';
import type { Refused } from './outcomes.js';
import type { RecordOf } from './records.js';

const INSERT = 'INSERT INTO policies (version, time, author, note, text) VALUES (?, ?, ?, ?, ?)';
const LAST = 'SELECT version, text FROM policies ORDER BY version DESC LIMIT 1';

/** The policy that commits are evaluated under: the last version. */
export class PolicyTable {
  readonly #database: Database.Database;
  #current: Policy = CLOSED;
  #version = 0;

  constructor(database: Database.Database) {
    this.#database = database;
    this.reload();
  }

  get current(): Policy {
    return this.#current;
  }

  /** Puts another policy in force. */
  set(record: RecordOf<'policy'>, timeMs: number): { version: number } | Refused {
    return refusalOf(() => {
      const policy = this.check(record);
      const { text, author, note } = record;
      const version = this.#version + 1;
      this.#database.prepare(INSERT).run(version, timeMs, JSON.stringify(author), note ?? null, text);
      this.#version = version;
      this.#current = policy;
      return { version };
    });
  }

  /**
   * Reads the policy of a record.
   *
   * @throws {ProblemError} `version-mismatch` or `bad-policy`, if it would be refused
   */
  check({ text, ifVersion }: RecordOf<'policy'>): Policy {
    if (ifVersion !== undefined && ifVersion !== this.#version) {
      throw problemError(
        'version-mismatch',
        `The policy is at version ${this.#version}, not ${ifVersion}. Read the newer version, then retry.`,
        { expectedVersion: ifVersion, currentVersion: this.#version },
      );
    }
    return parsePolicy(text);
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    const last = this.#database.prepare<[], { version: number; text: string }>(LAST).get();
    this.#version = last?.version ?? 0;
    this.#current = last ? parsePolicy(last.text) : CLOSED;
  }
}
