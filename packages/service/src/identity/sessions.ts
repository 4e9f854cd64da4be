import { randomUUID } from 'node:crypto';
import type Database from 'better-sqlite3';
import { hashSecret, newSecret } from './secrets.js';

/** How long an access token and a session that is not refreshed are good for, in milliseconds. */
export const ACCESS_MS = 15 * 60_000;
export const SESSION_MS = 60 * 24 * 3_600_000;

/** What the text of an access token begins with. */
export const ACCESS_PREFIX = 'access';

/** What an account gets when it signs in, and whenever it refreshes. Both tokens are replaced each time. */
export interface Grant {
  session: string;
  account: string;
  accessToken: string;
  accessUntilMs: number;
  refreshToken: string;
  refreshUntilMs: number;
}

/** How a refresh came out. `reused`: the token had been replaced before, so the session was ended. */
export type Refreshed = { grant: Grant } | { reused: { account: string } } | undefined;

interface Row {
  id: string;
  account: string;
  access: Buffer;
  accessUntil: number;
  refresh: Buffer;
  until: number;
  previous: Buffer | null;
  takenUp: number;
}

const SELECT = `
  SELECT id, account, access, access_until AS accessUntil, refresh, until, previous, taken_up AS takenUp FROM sessions`;

/** Spent refresh tokens that are remembered for one session. */
const MAX_SPENT = 1000;

/**
 * The sessions of accounts. A refresh token is valid once. A client that did not get the answer may send the same token
 * again, as long as its successor has not been used. Otherwise two clients hold the same token, and the session ends.
 */
export class Sessions {
  readonly #database: Database.Database;
  readonly #byAccess: Database.Statement<[Buffer], Row>;
  readonly #byId: Database.Statement<[string], Row>;

  constructor(database: Database.Database) {
    this.#database = database;
    this.#byAccess = database.prepare<[Buffer], Row>(`${SELECT} WHERE access = ?`);
    this.#byId = database.prepare<[string], Row>(`${SELECT} WHERE id = ?`);
  }

  begin(account: string, nowMs: number): Grant {
    this.#database.prepare('DELETE FROM sessions WHERE until <= ?').run(nowMs);
    const { grant, access, refresh } = makeGrant(randomUUID(), account, nowMs);
    this.#database
      .prepare(
        `INSERT INTO sessions (id, account, started, access, access_until, refresh, until, taken_up)
         VALUES (?, ?, ?, ?, ?, ?, ?, 0)`,
      )
      .run(grant.session, account, nowMs, access, grant.accessUntilMs, refresh, grant.refreshUntilMs);
    return grant;
  }

  /** The session that an access token belongs to. */
  identify(token: string, nowMs: number): { session: string; account: string; untilMs: number } | undefined {
    const row = this.#byAccess.get(hashSecret(token));
    if (!row || row.accessUntil <= nowMs) return undefined;
    if (!row.takenUp) this.#database.prepare('UPDATE sessions SET taken_up = 1 WHERE id = ?').run(row.id);
    return { session: row.id, account: row.account, untilMs: row.accessUntil };
  }

  /** Whether a session is still valid. */
  has(session: string): boolean {
    return this.#byId.get(session) !== undefined;
  }

  refresh(token: string, nowMs: number): Refreshed {
    const hash = hashSecret(token);
    const row = this.#database
      .prepare<[Buffer, Buffer], Row>(`${SELECT} WHERE refresh = ? OR previous = ?`)
      .get(hash, hash);
    if (row && row.until > nowMs) {
      const isCurrent = row.refresh.equals(hash);
      if (isCurrent || !row.takenUp) return { grant: this.#renew(row, isCurrent, nowMs) };
      this.end(row.id);
      return { reused: { account: row.account } };
    }
    const spent = this.#database
      .prepare<[Buffer], string>('SELECT session FROM spent_tokens WHERE hash = ?')
      .pluck()
      .get(hash);
    const session = spent === undefined ? undefined : this.#byId.get(spent);
    if (!session) return undefined;
    this.end(session.id);
    return { reused: { account: session.account } };
  }

  /** Ends a session. */
  end(session: string): void {
    this.#database.prepare('DELETE FROM sessions WHERE id = ?').run(session);
  }

  /** Ends all sessions of an account but one. Returns how many. */
  endAll(account: string, except = ''): number {
    return this.#database.prepare('DELETE FROM sessions WHERE account = ? AND id <> ?').run(account, except).changes;
  }

  #renew(row: Row, isCurrent: boolean, nowMs: number): Grant {
    const { grant, access, refresh } = makeGrant(row.id, row.account, nowMs);
    const spend = this.#database.prepare('INSERT OR IGNORE INTO spent_tokens (hash, session) VALUES (?, ?)');
    this.#database.transaction(() => {
      // The replaced token is spent: the previous one, or the one whose answer was lost.
      if (isCurrent && row.previous) spend.run(row.previous, row.id);
      if (!isCurrent) spend.run(row.refresh, row.id);
      this.#database
        .prepare(
          `DELETE FROM spent_tokens WHERE session = ? AND
             (SELECT COUNT(*) FROM spent_tokens WHERE session = ?) > ${MAX_SPENT}`,
        )
        .run(row.id, row.id);
      this.#database
        .prepare(
          'UPDATE sessions SET access = ?, access_until = ?, refresh = ?, until = ?, previous = ?, taken_up = 0 WHERE id = ?',
        )
        .run(
          access,
          grant.accessUntilMs,
          refresh,
          grant.refreshUntilMs,
          isCurrent ? row.refresh : row.previous,
          row.id,
        );
    })();
    return grant;
  }
}

function makeGrant(session: string, account: string, nowMs: number) {
  const [accessToken, refreshToken] = [newSecret(ACCESS_PREFIX), newSecret('refresh')];
  const grant: Grant = {
    session,
    account,
    accessToken,
    accessUntilMs: nowMs + ACCESS_MS,
    refreshToken,
    refreshUntilMs: nowMs + SESSION_MS,
  };
  return { grant, access: hashSecret(accessToken), refresh: hashSecret(refreshToken) };
}
