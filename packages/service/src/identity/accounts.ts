import { createIdGenerator, formatTime, type Claims, type JsonObject } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { Store } from '../store/index.js';
import { hashPassword, verifyPassword } from './passwords.js';

/** An account as it is listed. */
export interface AccountInfo {
  id: string;
  /** The name for signing in; a guest has none. */
  name?: string | undefined;
  guest: boolean;
  /** What administrators have said of it; the policy reads it. */
  claims: JsonObject;
  created: string;
  disabled: boolean;
}

interface Row {
  id: string;
  name: string | null;
  password: string | null;
  claims: string;
  created: number;
  disabled: number | null;
}

const SELECT = 'SELECT id, name, password, claims, created, disabled FROM accounts';
const BY_ID = `${SELECT} WHERE id = ?`;
const BY_NAME = `${SELECT} WHERE name = ?`;
const EXPIRED_GUESTS = 'SELECT COUNT(*) FROM accounts WHERE name IS NULL AND id NOT IN (SELECT account FROM sessions)';

/** The names of claims that come from the account itself. */
export const OWN_CLAIMS: readonly string[] = ['sub', 'name', 'guest', 'iss'];

/** The accounts of people and devices, for stores without an identity provider. */
export class Accounts {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  readonly #newId = createIdGenerator({ now: () => Date.now(), random: (bytes) => crypto.getRandomValues(bytes) });
  /** What the policy gets to see of an account, worked out once for as long as it stays as it is. */
  readonly #rights = new Map<string, { row: string; rights: { claims: Claims } }>();

  constructor(store: Pick<Store, 'reads' | 'log'>) {
    this.#store = store;
  }

  /** Removes guests whose sessions have all expired: they cannot come back. Called once at the start. */
  async removeExpiredGuests(): Promise<void> {
    if (this.#store.reads.values<[], number>(EXPIRED_GUESTS).get() === 0) return;
    await this.#store.log.propose({ kind: 'guests-removed', timeMs: Date.now() });
  }

  /**
   * Makes an account.
   *
   * @throws {ProblemError} `account-exists`
   */
  async create(name: string, password: string, claims: JsonObject = {}): Promise<AccountInfo> {
    // The hash comes first, so that a name that is taken takes as long as one that is not.
    const hash = await hashPassword(password);
    return this.#insert(name, hash, claims);
  }

  createGuest(): Promise<AccountInfo> {
    return this.#insert(undefined, undefined, {});
  }

  /** Makes a guest an account with a name and a password; its id stays. */
  async adopt(id: string, name: string, password: string): Promise<AccountInfo> {
    const hash = await hashPassword(password);
    const { found } = await this.#store.log.propose({
      kind: 'account-changed',
      timeMs: Date.now(),
      id,
      name: fold(name),
      password: hash,
    });
    if (!found) throw problemError('token-invalid', 'The account has been disabled or removed.');
    return this.get(id)!;
  }

  get(id: string): AccountInfo | undefined {
    const row = this.#byId(id);
    return row && describe(row);
  }

  find(name: string): AccountInfo | undefined {
    const row = this.#byName(name);
    return row && describe(row);
  }

  list(after: string, limit: number): AccountInfo[] {
    return this.#store.reads
      .statement<[string, number], Row>(`${SELECT} WHERE id > ? ORDER BY id LIMIT ?`)
      .all(after, limit)
      .map(describe);
  }

  /** The account of a name and its password; undefined for a wrong one, a name there is not, or a disabled account. */
  async verify(name: string, password: string): Promise<AccountInfo | undefined> {
    const row = this.#byName(name);
    const right = await verifyPassword(password, row?.password ?? undefined);
    return right && row && row.disabled === null ? describe(row) : undefined;
  }

  /** Whether this is the password of an account. */
  async verifyById(id: string, password: string): Promise<boolean> {
    return verifyPassword(password, this.#byId(id)?.password ?? undefined);
  }

  /**
   * Changes the password, the claims or the state of an account.
   *
   * @param endSessionsExcept ends its sessions but the one with this id; an empty text ends all
   * @returns false if the account does not exist
   */
  async change(
    id: string,
    change: {
      password?: string | undefined;
      claims?: JsonObject | undefined;
      disabled?: boolean | undefined;
      endSessionsExcept?: string | undefined;
    },
  ): Promise<boolean> {
    const { password, claims, disabled, endSessionsExcept } = change;
    const { found } = await this.#store.log.propose({
      kind: 'account-changed',
      timeMs: Date.now(),
      id,
      ...(password === undefined ? {} : { password: await hashPassword(password) }),
      ...(claims === undefined ? {} : { claims }),
      ...(disabled === undefined ? {} : { disabled }),
      ...(endSessionsExcept === undefined ? {} : { endSessionsExcept }),
    });
    return found;
  }

  /** Removes an account with its sessions. Resolves with false if it does not exist. */
  async remove(id: string): Promise<boolean> {
    this.#rights.delete(id);
    return (await this.#store.log.propose({ kind: 'account-removed', timeMs: Date.now(), id })).found;
  }

  /** By what right an account asks; undefined when it is disabled or gone. The same object while it stays the same. */
  rightsOf(id: string): { claims: Claims } | undefined {
    const row = this.#byId(id);
    if (!row || row.disabled !== null) return undefined;
    const text = JSON.stringify([row.name, row.claims]);
    const known = this.#rights.get(id);
    if (known?.row === text) return known.rights;
    if (this.#rights.size > 100_000) this.#rights.clear();
    const own = { sub: id, guest: row.name === null, ...(row.name === null ? {} : { name: row.name }) };
    const rights = { claims: { ...(JSON.parse(row.claims) as JsonObject), ...own } };
    this.#rights.set(id, { row: text, rights });
    return rights;
  }

  async #insert(name: string | undefined, password: string | undefined, claims: JsonObject): Promise<AccountInfo> {
    const id = this.#newId();
    await this.#store.log.propose({
      kind: 'account-created',
      timeMs: Date.now(),
      id,
      ...(name === undefined ? {} : { name: fold(name) }),
      ...(password === undefined ? {} : { password }),
      claims,
    });
    return this.get(id)!;
  }

  #byId(id: string): Row | undefined {
    return this.#store.reads.statement<[string], Row>(BY_ID).get(id);
  }

  #byName(name: string): Row | undefined {
    return this.#store.reads.statement<[string], Row>(BY_NAME).get(fold(name));
  }
}

/** Names are compared without regard to case and Unicode form. */
function fold(name: string): string {
  return name.normalize('NFKC').toLowerCase();
}

function describe({ id, name, claims, created, disabled }: Row): AccountInfo {
  return {
    id,
    name: name ?? undefined,
    guest: name === null,
    claims: JSON.parse(claims) as JsonObject,
    created: formatTime(created),
    disabled: disabled !== null,
  };
}
