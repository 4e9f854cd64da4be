import type Database from 'better-sqlite3';
import { problemError } from '@uproar/protocol';
import type { AccountTable } from './account-table.js';
import { bytesOf } from './key-table.js';
import type { RefreshOutcome, Refused } from './outcomes.js';
import type { RecordOf } from './records.js';

interface Row {
  id: string;
  account: string;
  refresh: Buffer;
  until: number;
  previous: Buffer | null;
  takenUp: number;
}

/** Spent refresh tokens that are kept for one session. */
const MAX_SPENT = 1000;

const INSERT = `
  INSERT INTO sessions (id, account, started, access, access_until, refresh, until, taken_up)
  VALUES (?, ?, ?, ?, ?, ?, ?, 0)`;
const EXPIRE = 'DELETE FROM sessions WHERE until <= ?';
const USE = 'UPDATE sessions SET taken_up = 1 WHERE access = ?';
const BY_REFRESH = `
  SELECT id, account, refresh, until, previous, taken_up AS takenUp FROM sessions WHERE refresh = ? OR previous = ?`;
const BY_SPENT = `
  SELECT sessions.id, account FROM sessions JOIN spent_tokens ON spent_tokens.session = sessions.id
  WHERE spent_tokens.hash = ?`;
const RENEW = `
  UPDATE sessions SET access = ?, access_until = ?, refresh = ?, until = ?, previous = ?, taken_up = 0 WHERE id = ?`;
const SPEND = 'INSERT OR IGNORE INTO spent_tokens (hash, session) VALUES (?, ?)';
const FORGET_SPENT = `
  DELETE FROM spent_tokens
  WHERE session = ? AND (SELECT COUNT(*) FROM spent_tokens WHERE session = ?) > ${MAX_SPENT}`;
const END = 'DELETE FROM sessions WHERE id = ?';
const END_ALL = 'DELETE FROM sessions WHERE account = ? AND id <> ?';

/**
 * The sessions of accounts. A refresh token is valid once. A client that did not get the answer may send the same token
 * again, as long as its successor has not been used. Otherwise two clients hold the same token, and the session ends.
 */
export class SessionTable {
  readonly #database: Database.Database;
  readonly #accounts: AccountTable;

  constructor(database: Database.Database, accounts: AccountTable) {
    this.#database = database;
    this.#accounts = accounts;
  }

  start(record: RecordOf<'session-started'>, timeMs: number): Record<never, never> | Refused {
    const { id, account, access, accessUntilMs, refresh, refreshUntilMs } = record;
    if (!this.#accounts.isActive(account)) {
      return { problem: problemError('token-invalid', 'The account has been disabled or removed.') };
    }
    this.#database.prepare(EXPIRE).run(timeMs);
    this.#database
      .prepare(INSERT)
      .run(id, account, timeMs, bytesOf(access), accessUntilMs, bytesOf(refresh), refreshUntilMs);
    return {};
  }

  /** Notes that the access token was used, so that the refresh token before it is no longer accepted. */
  use(access: string): void {
    this.#database.prepare(USE).run(bytesOf(access));
  }

  refresh(record: RecordOf<'session-refreshed'>, timeMs: number): RefreshOutcome {
    const hash = bytesOf(record.token);
    const row = this.#database.prepare<[Buffer, Buffer], Row>(BY_REFRESH).get(hash, hash);
    if (row && row.until > timeMs) {
      const isCurrent = row.refresh.equals(hash);
      if (!isCurrent && row.takenUp) return this.#endReused(row);
      if (this.#accounts.isActive(row.account)) return this.#renew(row, isCurrent, record);
      this.end(row.id);
      return { unknown: true };
    }
    const spent = this.#database.prepare<[Buffer], { id: string; account: string }>(BY_SPENT).get(hash);
    return spent ? this.#endReused(spent) : { unknown: true };
  }

  end(session: string): void {
    this.#database.prepare(END).run(session);
  }

  /** Ends all sessions of an account but one. */
  endAll(account: string, except: string): void {
    this.#database.prepare(END_ALL).run(account, except);
  }

  #endReused({ id, account }: { id: string; account: string }): RefreshOutcome {
    this.end(id);
    return { reused: { account } };
  }

  #renew(row: Row, isCurrent: boolean, tokens: RecordOf<'session-refreshed'>): RefreshOutcome {
    const spend = this.#database.prepare(SPEND);
    // The replaced token is spent: the previous one, or the one whose answer was lost.
    if (isCurrent && row.previous) spend.run(row.previous, row.id);
    if (!isCurrent) spend.run(row.refresh, row.id);
    this.#database.prepare(FORGET_SPENT).run(row.id, row.id);
    const { access, accessUntilMs, refresh, refreshUntilMs } = tokens;
    const previous = isCurrent ? row.refresh : row.previous;
    this.#database
      .prepare(RENEW)
      .run(bytesOf(access), accessUntilMs, bytesOf(refresh), refreshUntilMs, previous, row.id);
    return { renewed: { session: row.id, account: row.account } };
  }
}
