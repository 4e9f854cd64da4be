import { accessFor, type Access, type Claims, type Policy, type Rights } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { innerRecords, type LogRecord } from '../state/records.js';
import type { AppliedBatch } from '../state/state-machine.js';
import type { Store } from '../store/index.js';
import { Accounts } from './accounts.js';
import { Audit } from './audit.js';
import type { Identity } from './identity.js';
import { ENVIRONMENT, Keys } from './keys.js';
import { Policies } from './policies.js';
import { isSameSecret } from './secrets.js';
import { ACCESS_PREFIX, Sessions } from './sessions.js';
import { looksLikeToken, Tokens, type TokenSettings } from './tokens.js';

/** Whether there are accounts: none, only those that administrators create, or self-registration. */
export type AccountsMode = 'off' | 'closed' | 'open';

/** How callers are authenticated. */
export interface IdentityOptions {
  store: Pick<Store, 'reads' | 'log'>;
  adminKey?: string | undefined;
  /** What other nodes of the cluster authenticate with. */
  nodeKey?: string | undefined;
  tokens?: TokenSettings | undefined;
  accounts: AccountsMode;
}

const OPEN_RIGHTS: Rights = { scope: 'write' };
const NO_CLAIMS: Rights & { claims: Claims } = { claims: {} };

/** Authenticates callers and knows their permissions. */
export class Identities {
  readonly keys: Keys;
  readonly policies: Policies;
  readonly accounts: Accounts;
  readonly sessions: Sessions;
  readonly audit: Audit;
  readonly accountsMode: AccountsMode;
  readonly #tokens: Tokens | undefined;
  readonly #listeners = new Set<(concerns: (identity: Identity) => boolean) => void>();
  #openUntilMs = 0;
  /** The key that was last sent on each connection. */
  readonly #byConnection = new WeakMap<object, { secret: Buffer; identity: Identity }>();

  constructor({ store, adminKey, nodeKey, tokens, accounts }: IdentityOptions) {
    this.keys = new Keys(store, { [ENVIRONMENT]: adminKey, node: nodeKey });
    this.policies = new Policies(store);
    this.accounts = new Accounts(store);
    this.sessions = new Sessions(store);
    this.audit = new Audit(store);
    this.accountsMode = accounts;
    this.#tokens = tokens && new Tokens(tokens);
    store.log.onBatch((batch) => this.#checkAgain(batch));
  }

  get policy(): Policy {
    return this.policies.current;
  }

  /** Opens the store to everyone for a while, in milliseconds. */
  openFor(ms: number): void {
    this.#openUntilMs = Date.now() + ms;
  }

  /** Until when the store stands open; undefined when it does not. */
  openUntilMs(nowMs = Date.now()): number | undefined {
    return this.#openUntilMs > nowMs ? this.#openUntilMs : undefined;
  }

  /** The access of an identity to a collection. */
  accessOf({ rights }: Identity, collection: string): Access {
    return accessFor(this.policy, rights, collection);
  }

  /**
   * Identifies the sender of a key or a token, or of neither.
   *
   * @throws {ProblemError} 401 with the reason
   */
  async identify(secret: string | undefined): Promise<Identity> {
    const nowMs = Date.now();
    if (secret === undefined) return this.#identifyNobody(nowMs);
    const byKey = this.keys.identify(secret, nowMs);
    if (byKey) return byKey;
    if (secret.startsWith(`${ACCESS_PREFIX}-`) && this.accountsMode !== 'off')
      return this.#identifyAccount(secret, nowMs);
    if (this.#tokens && looksLikeToken(secret)) {
      const { author, rights, expiresMs, origin } = await this.#tokens.identify(secret);
      return this.#governed(author, (rights as { claims: Claims }).claims, origin, expiresMs);
    }
    throw problemError(
      'key-unknown',
      looksLikeToken(secret)
        ? 'This looks like a token (JWT), but this store does not accept tokens. Start it with --token-keys or a token secret.'
        : 'The store does not know this key, or it has expired. The first start printed one; "uproar key list" lists all keys.',
    );
  }

  /**
   * The identity of a request that came with a key which this connection has sent before. So the key is not hashed for
   * each request. Undefined if {@link identifyOn} must look.
   */
  identifyAgain(connection: object, secret: string): Identity | undefined {
    const known = this.#byConnection.get(connection);
    // A proxy may send the requests of several callers over one connection.
    if (!known || !isSameSecret(known.secret, secret)) return undefined;
    return this.keys.identifyAgain(known.identity, Date.now());
  }

  /** As {@link identify}, and remembers the key of the connection. */
  async identifyOn(connection: object, secret: string | undefined): Promise<Identity> {
    const identity = await this.identify(secret);
    if (secret !== undefined && identity.author.kind === 'key')
      this.#byConnection.set(connection, { secret: Buffer.from(secret), identity });
    return identity;
  }

  /**
   * The identity as it is now: a claim may have changed, a key been revoked.
   *
   * @throws {ProblemError} 401 when it does not hold any more
   */
  present(identity: Identity): Identity {
    const nowMs = Date.now();
    const { author, origin, expiresMs, claims } = identity;
    switch (author.kind) {
      case 'key': {
        const known = this.keys.present(identity, nowMs);
        if (known) return known;
        throw problemError('key-unknown', 'The key has been revoked or replaced, or it has expired.');
      }
      case 'account': {
        if (identity.sessionUntilMs! <= nowMs) throw expired('The access token has expired. Refresh the session.');
        if (this.sessions.has(origin.id)) return this.#ofAccount(author.name, origin.id, identity.sessionUntilMs!);
        throw problemError('token-invalid', 'The session has ended. Sign in again.');
      }
      case 'token':
        if (identity.sessionUntilMs! <= nowMs) throw expired('The token has expired. Get a new one from its issuer.');
        return this.#governed(author, claims!, origin, identity.sessionUntilMs, identity);
      default:
        if (expiresMs !== undefined && expiresMs <= nowMs) throw closedAgain();
        return this.#identifyNobody(nowMs);
    }
  }

  /** Calls `listener` when permissions may have changed. */
  onChanged(listener: (concerns: (identity: Identity) => boolean) => void): void {
    this.#listeners.add(listener);
  }

  /** Makes open connections check their permissions again, before they get changes made after a change of permissions. */
  #checkAgain({ records, outcomes }: AppliedBatch): void {
    for (const [index, record] of records.entries()) {
      if (record.kind === 'commit') continue;
      for (const inner of innerRecords([record])) {
        const concerns = concernedBy(inner, outcomes[index]!);
        if (concerns) for (const listener of this.#listeners) listener(concerns);
      }
    }
  }

  #identifyNobody(nowMs: number): Identity {
    const openUntil = this.openUntilMs(nowMs);
    if (openUntil !== undefined) {
      return { author: { kind: 'open', name: '' }, rights: OPEN_RIGHTS, expiresMs: openUntil, origin: { id: 'open' } };
    }
    if (this.policy.anonymous) {
      return { author: { kind: 'anonymous', name: '' }, rights: NO_CLAIMS, origin: { id: 'anonymous' } };
    }
    throw problemError('key-missing', 'Send a key of the store, or a token, as "Authorization: Bearer <key>".');
  }

  #identifyAccount(token: string, nowMs: number): Identity {
    const session = this.sessions.identify(token, nowMs);
    if (session) return this.#ofAccount(session.account, session.session, session.untilMs);
    throw expired('This access token is no longer valid. Refresh the session, or sign in again.');
  }

  #ofAccount(account: string, session: string, untilMs: number): Identity {
    const rights = this.accounts.rightsOf(account);
    if (!rights) throw problemError('token-invalid', 'The account has been disabled or removed.');
    return this.#governed({ kind: 'account', name: account }, rights.claims, { id: session }, untilMs, { rights });
  }

  /** While the store stands open, what the policy says does not count. */
  #governed(
    author: Identity['author'],
    claims: Claims,
    origin: Identity['origin'],
    untilMs: number | undefined,
    kept?: { rights: Rights },
  ): Identity {
    const openUntil = this.openUntilMs();
    const governed = kept && 'claims' in kept.rights && kept.rights.claims === claims ? kept.rights : { claims };
    return {
      author,
      claims,
      rights: openUntil === undefined ? governed : OPEN_RIGHTS,
      expiresMs: openUntil === undefined ? untilMs : Math.min(openUntil, untilMs ?? Infinity),
      sessionUntilMs: untilMs,
      origin,
    };
  }
}

function expired(detail: string): Error {
  return problemError('token-expired', detail);
}

function closedAgain(): Error {
  return problemError('key-missing', 'The open period of the store is over. Send a key or a token.');
}

/** The identities whose permissions a record may have changed; undefined if there are none. */
function concernedBy(
  record: LogRecord,
  outcome: AppliedBatch['outcomes'][number],
): ((identity: Identity) => boolean) | undefined {
  const ofAccount = (id: string) => (identity: Identity) =>
    identity.author.kind === 'account' && identity.author.name === id;
  switch (record.kind) {
    case 'policy':
      return 'problem' in outcome ? undefined : () => true;
    case 'key-rotated':
    case 'key-revoked':
      return ({ author }) => author.kind === 'key';
    case 'account-changed':
    case 'account-removed':
      return ofAccount(record.id);
    case 'session-ended':
      return ({ author, origin }) => author.kind === 'account' && origin.id === record.id;
    case 'session-refreshed':
      return 'reused' in outcome ? ofAccount(outcome.reused.account) : undefined;
    default:
      return undefined;
  }
}
