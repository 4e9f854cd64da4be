import type Database from 'better-sqlite3';
import { createIdGenerator, formatTime, type Claims, type JsonObject } from '@uproar/core';
import { problemError } from '@uproar/protocol';
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

/** The names of claims that come from the account itself. */
export const OWN_CLAIMS: readonly string[] = ['sub', 'name', 'guest', 'iss'];

/** The accounts of people and devices, for stores without an identity provider. */
export class Accounts {
  readonly #database: Database.Database;
  readonly #byId: Database.Statement<[string], Row>;
  readonly #newId = createIdGenerator({ now: () => Date.now(), random: (bytes) => crypto.getRandomValues(bytes) });
  /** What the policy gets to see of an account, worked out once for as long as it stays as it is. */
  readonly #rights = new Map<string, { row: string; rights: { claims: Claims } }>();

  constructor(database: Database.Database) {
    this.#database = database;
    this.#byId = database.prepare<[string], Row>(`${SELECT} WHERE id = ?`);
    // A guest whose sessions have all run out cannot come back.
    database.prepare('DELETE FROM accounts WHERE name IS NULL AND id NOT IN (SELECT account FROM sessions)').run();
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

  createGuest(): AccountInfo {
    return this.#insert(null, null, {});
  }

  /** Makes a guest an account with a name and a password; its id stays. */
  async adopt(id: string, name: string, password: string): Promise<AccountInfo> {
    const hash = await hashPassword(password);
    const row = this.#byId.get(id);
    if (!row || row.name !== null) throw problemError('bad-request', 'This account has a name and a password already.');
    this.#guardName(() =>
      this.#database.prepare('UPDATE accounts SET name = ?, password = ? WHERE id = ?').run(fold(name), hash, id),
    );
    return this.get(id)!;
  }

  get(id: string): AccountInfo | undefined {
    const row = this.#byId.get(id);
    return row && describe(row);
  }

  find(name: string): AccountInfo | undefined {
    const row = this.#database.prepare<[string], Row>(`${SELECT} WHERE name = ?`).get(fold(name));
    return row && describe(row);
  }

  list(after: string, limit: number): AccountInfo[] {
    return this.#database
      .prepare<[string, number], Row>(`${SELECT} WHERE id > ? ORDER BY id LIMIT ?`)
      .all(after, limit)
      .map(describe);
  }

  /** The account of a name and its password; undefined for a wrong one, a name there is not, or a disabled account. */
  async verify(name: string, password: string): Promise<AccountInfo | undefined> {
    const row = this.#database.prepare<[string], Row>(`${SELECT} WHERE name = ?`).get(fold(name));
    const right = await verifyPassword(password, row?.password ?? undefined);
    return right && row && row.disabled === null ? describe(row) : undefined;
  }

  /** Whether this is the password of an account. */
  async verifyById(id: string, password: string): Promise<boolean> {
    return verifyPassword(password, this.#byId.get(id)?.password ?? undefined);
  }

  async setPassword(id: string, password: string): Promise<void> {
    const hash = await hashPassword(password);
    this.#database.prepare('UPDATE accounts SET password = ? WHERE id = ?').run(hash, id);
  }

  /** Changes the claims of an account. False if it does not exist. */
  alter(
    id: string,
    { claims, disabled }: { claims?: JsonObject | undefined; disabled?: boolean | undefined },
  ): boolean {
    const row = this.#byId.get(id);
    if (!row) return false;
    this.#database
      .prepare('UPDATE accounts SET claims = ?, disabled = ? WHERE id = ?')
      .run(
        claims ? JSON.stringify(claims) : row.claims,
        disabled === undefined ? row.disabled : disabled ? (row.disabled ?? Date.now()) : null,
        id,
      );
    return true;
  }

  remove(id: string): boolean {
    this.#rights.delete(id);
    return this.#database.prepare('DELETE FROM accounts WHERE id = ?').run(id).changes > 0;
  }

  /** By what right an account asks; undefined when it is disabled or gone. The same object while it stays the same. */
  rightsOf(id: string): { claims: Claims } | undefined {
    const row = this.#byId.get(id);
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

  #insert(name: string | null, password: string | null, claims: JsonObject): AccountInfo {
    const id = this.#newId();
    this.#guardName(() =>
      this.#database
        .prepare('INSERT INTO accounts (id, name, password, claims, created) VALUES (?, ?, ?, ?, ?)')
        .run(id, name === null ? null : fold(name), password, JSON.stringify(claims), Date.now()),
    );
    return this.get(id)!;
  }

  #guardName(write: () => void): void {
    try {
      write();
    } catch (error) {
      if ((error as { code?: string }).code !== 'SQLITE_CONSTRAINT_UNIQUE') throw error;
      throw problemError('account-exists', 'An account with this name exists already. Choose another name.', {
        pointer: '/name',
      });
    }
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
