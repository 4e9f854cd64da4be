import { randomUUID } from 'node:crypto';
import type { Store } from '../store/index.js';
import { encodeHash, hashSecret, newSecret } from './secrets.js';

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
  accessUntil: number;
  takenUp: number;
}

const SELECT = 'SELECT id, account, access_until AS accessUntil, taken_up AS takenUp FROM sessions';
const BY_ACCESS = `${SELECT} WHERE access = ?`;
const BY_ID = `${SELECT} WHERE id = ?`;

/**
 * The sessions of accounts. A refresh token is valid once. A client that did not get the answer may send the same token
 * again, as long as its successor has not been used. Otherwise two clients hold the same token, and the session ends.
 */
export class Sessions {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  /** Access tokens that were noted as used, by session, so that it is proposed once. */
  readonly #used = new Map<string, string>();

  constructor(store: Pick<Store, 'reads' | 'log'>) {
    this.#store = store;
  }

  async begin(account: string, nowMs: number): Promise<Grant> {
    const { grant, tokens } = makeGrant(randomUUID(), account, nowMs);
    await this.#store.log.propose({ kind: 'session-started', timeMs: nowMs, id: grant.session, account, ...tokens });
    return grant;
  }

  /** The session that an access token belongs to. */
  identify(token: string, nowMs: number): { session: string; account: string; untilMs: number } | undefined {
    const row = this.#store.reads.statement<[Buffer], Row>(BY_ACCESS).get(hashSecret(token));
    if (!row || row.accessUntil <= nowMs) return undefined;
    if (!row.takenUp) this.#noteUse(row.id, token, nowMs);
    return { session: row.id, account: row.account, untilMs: row.accessUntil };
  }

  /** Whether a session is still valid. */
  has(session: string): boolean {
    return this.#store.reads.statement<[string], Row>(BY_ID).get(session) !== undefined;
  }

  async refresh(token: string, nowMs: number): Promise<Refreshed> {
    const { grant, tokens } = makeGrant('', '', nowMs);
    const outcome = await this.#store.log.propose({
      kind: 'session-refreshed',
      timeMs: nowMs,
      token: encodeHash(token),
      ...tokens,
    });
    if ('renewed' in outcome) return { grant: { ...grant, ...outcome.renewed } };
    return 'reused' in outcome ? outcome : undefined;
  }

  /** Ends a session. */
  async end(session: string): Promise<void> {
    await this.#store.log.propose({ kind: 'session-ended', timeMs: Date.now(), id: session });
  }

  /** Ends all sessions of an account. */
  async endAll(account: string): Promise<void> {
    await this.#store.log.propose({
      kind: 'account-changed',
      timeMs: Date.now(),
      id: account,
      endSessionsExcept: '',
    });
  }

  /** From now on, the refresh token before this access token is no longer accepted. */
  #noteUse(session: string, token: string, nowMs: number): void {
    if (this.#used.get(session) === token) return;
    if (this.#used.size > 100_000) this.#used.clear();
    this.#used.set(session, token);
    const record = { kind: 'session-used', timeMs: nowMs, access: encodeHash(token) } as const;
    this.#store.log.propose(record).then(
      () => this.#used.delete(session),
      // A full disk: the next use tries again.
      () => this.#used.delete(session),
    );
  }
}

function makeGrant(session: string, account: string, nowMs: number) {
  const [accessToken, refreshToken] = [newSecret(ACCESS_PREFIX), newSecret('refresh')];
  const [accessUntilMs, refreshUntilMs] = [nowMs + ACCESS_MS, nowMs + SESSION_MS];
  const grant: Grant = { session, account, accessToken, accessUntilMs, refreshToken, refreshUntilMs };
  const tokens = { access: encodeHash(accessToken), accessUntilMs, refresh: encodeHash(refreshToken), refreshUntilMs };
  return { grant, tokens };
}
