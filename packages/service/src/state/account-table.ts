import type Database from 'better-sqlite3';
import { problemError } from '@uproar/protocol';
import type { Refused } from './outcomes.js';
import type { RecordOf } from './records.js';

interface Row {
  name: string | null;
  password: string | null;
  claims: string;
  disabled: number | null;
}

const INSERT = 'INSERT INTO accounts (id, name, password, claims, created) VALUES (?, ?, ?, ?, ?)';
const GET = 'SELECT name, password, claims, disabled FROM accounts WHERE id = ?';
const UPDATE = 'UPDATE accounts SET name = ?, password = ?, claims = ?, disabled = ? WHERE id = ?';
const DELETE = 'DELETE FROM accounts WHERE id = ?';
const TAKEN = 'SELECT COUNT(*) FROM accounts WHERE name = ? AND id <> ?';
const DELETE_GUESTS = 'DELETE FROM accounts WHERE name IS NULL AND id NOT IN (SELECT account FROM sessions)';

/** The accounts of people and devices. */
export class AccountTable {
  readonly #database: Database.Database;

  constructor(database: Database.Database) {
    this.#database = database;
  }

  create({ id, name, password, claims }: RecordOf<'account-created'>, timeMs: number): Record<never, never> | Refused {
    if (name !== undefined && this.#isTaken(name, id)) return nameTaken();
    this.#database.prepare(INSERT).run(id, name ?? null, password ?? null, JSON.stringify(claims), timeMs);
    return {};
  }

  change(record: RecordOf<'account-changed'>, timeMs: number): { found: boolean } | Refused {
    const { id, name, password, claims, disabled } = record;
    const row = this.#database.prepare<[string], Row>(GET).get(id);
    if (!row) return { found: false };
    if (name !== undefined) {
      if (row.name !== null) {
        return { problem: problemError('bad-request', 'This account has a name and a password already.') };
      }
      if (this.#isTaken(name, id)) return nameTaken();
    }
    this.#database
      .prepare(UPDATE)
      .run(
        name ?? row.name,
        password ?? row.password,
        claims ? JSON.stringify(claims) : row.claims,
        disabled === undefined ? row.disabled : disabled ? (row.disabled ?? timeMs) : null,
        id,
      );
    return { found: true };
  }

  /** Removes an account, and with it its sessions. */
  remove(id: string): { found: boolean } {
    return { found: this.#database.prepare(DELETE).run(id).changes > 0 };
  }

  /** Removes guests without sessions: they cannot come back. */
  removeGuests(): { removed: number } {
    return { removed: this.#database.prepare(DELETE_GUESTS).run().changes };
  }

  /** Whether an account exists and is not disabled. */
  isActive(id: string): boolean {
    const row = this.#database.prepare<[string], Row>(GET).get(id);
    return row !== undefined && row.disabled === null;
  }

  #isTaken(name: string, id: string): boolean {
    return this.#database.prepare<[string, string], number>(TAKEN).pluck().get(name, id)! > 0;
  }
}

function nameTaken(): Refused {
  const detail = 'An account with this name exists already. Choose another name.';
  return { problem: problemError('account-exists', detail, { pointer: '/name' }) };
}
