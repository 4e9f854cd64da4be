import { randomUUID, timingSafeEqual } from 'node:crypto';
import type Database from 'better-sqlite3';
import { formatTime } from '@uproar/core';
import type { Store } from '../store/index.js';
import type { Identity } from './identity.js';
import { encodeHash, hashSecret, newSecret } from './secrets.js';
import { keyExists } from '../state/key-table.js';

/** The name of the key from `UPROAR_ADMIN_KEY`. */
export const ENVIRONMENT = 'environment';

/** The minimum length of a key that is set by the operator. */
export const MIN_KEY_LENGTH = 16;

/** The last use of a key is written at most this often, in milliseconds. */
const USED_INTERVAL_MS = 60_000;

/** What a key may do: administer, write (and read) all data, or read it. */
export type KeyScope = 'admin' | 'write' | 'read';

/** A key as it is listed; the secret itself is not kept. */
export interface KeyInfo {
  id: string;
  name: string;
  scope: KeyScope;
  /** The only collections it is good for; undefined: all. */
  collections?: readonly string[] | undefined;
  created: string;
  expires?: string | undefined;
  used?: string | undefined;
}

/** How a new key is to be. */
export interface KeyForm {
  name: string;
  scope: KeyScope;
  collections?: readonly string[] | undefined;
  expiresMs?: number | undefined;
}

interface KeyRow {
  id: string;
  name: string;
  hash: Buffer;
  scope: KeyScope;
  collections: string | null;
  created: number;
  expires: number | null;
  used: number | null;
  oldHash: Buffer | null;
  oldUntil: number | null;
}

interface Known extends KeyRow {
  /** Its hashes in hexadecimal digits, as identities name them. */
  proofs: { text: string; hash: Buffer }[];
  /** Kept as one object, so that what the key may do is worked out once. */
  rights: Extract<Identity['rights'], { scope: unknown }>;
}

const SELECT = `
  SELECT keys.id, name, hash, scope, collections, created, expires, used, old_hash AS oldHash, old_until AS oldUntil
  FROM keys LEFT JOIN key_uses USING (id) ORDER BY created, name`;
const USE = `
  INSERT INTO key_uses (id, used) VALUES (?, ?) ON CONFLICT (id) DO UPDATE SET used = excluded.used`;
const FORGET_USES = 'DELETE FROM key_uses WHERE id NOT IN (SELECT id FROM keys)';

/** The keys of a store. They are long and random, so a plain SHA-256 of each is safe to keep. */
export class Keys {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  readonly #ofProcess: readonly Known[];
  #stored: Known[] = [];

  /**
   * @param ofProcess keys that hold for this process only, by their names: that from `UPROAR_ADMIN_KEY`, and that of the
   *   other nodes of a cluster. They may do everything.
   */
  constructor(store: Pick<Store, 'reads' | 'log'>, ofProcess: Readonly<Record<string, string | undefined>> = {}) {
    this.#store = store;
    this.#ofProcess = Object.entries(ofProcess).flatMap(([name, key]) => (key ? [knowOfProcess(name, key)] : []));
    this.#load();
    store.log.onBatch(({ records }) => {
      if (records.some(({ kind }) => kind.startsWith('key-'))) this.#load();
    });
  }

  /** Makes the first key of a store that has none. Returns it, the only time it is to be seen. */
  async createFirst(): Promise<string | undefined> {
    if (this.#ofProcess.some(({ name }) => name === ENVIRONMENT) || this.#stored.length > 0) return undefined;
    const key = newSecret('uproar');
    const record = { id: randomUUID(), name: 'first', hash: encodeHash(key), scope: 'admin', first: true } as const;
    const { created } = await this.#store.log.propose({ kind: 'key-created', timeMs: Date.now(), ...record });
    return created ? key : undefined;
  }

  /**
   * Makes a key. It is not to be seen again.
   *
   * @throws {ProblemError} `key-exists`, or `limit-reached` keys
   */
  async create({ name, scope, collections, expiresMs }: KeyForm): Promise<{ key: string; info: KeyInfo }> {
    if (this.#ofProcess.some((known) => known.name === name)) throw keyExists(name);
    const key = newSecret('uproar');
    const id = randomUUID();
    await this.#store.log.propose({
      kind: 'key-created',
      timeMs: Date.now(),
      id,
      name,
      hash: encodeHash(key),
      scope,
      ...(collections ? { collections: [...collections] } : {}),
      ...(expiresMs === undefined ? {} : { expiresMs }),
    });
    return { key, info: this.get(id)! };
  }

  list(): KeyInfo[] {
    return this.#stored.map(describe);
  }

  get(id: string): KeyInfo | undefined {
    const row = this.#find(id);
    return row && describe(row);
  }

  /** Gives a key another secret. The old one is good for `keepOldMs` longer. Undefined where there is no such key. */
  async rotate(id: string, keepOldMs: number): Promise<{ key: string; info: KeyInfo } | undefined> {
    const row = this.#find(id);
    if (!row) return undefined;
    const key = newSecret('uproar');
    const timeMs = Date.now();
    const { found } = await this.#store.log.propose({
      kind: 'key-rotated',
      timeMs,
      id: row.id,
      hash: encodeHash(key),
      ...(keepOldMs > 0 ? { oldUntilMs: timeMs + keepOldMs } : {}),
    });
    return found ? { key, info: this.get(row.id)! } : undefined;
  }

  /** Revokes a key. Resolves with false if it does not exist. */
  async revoke(id: string): Promise<boolean> {
    const row = this.#find(id);
    if (!row) return false;
    const record = { kind: 'key-revoked', timeMs: Date.now(), id: row.id } as const;
    return (await this.#store.log.propose(record)).found;
  }

  /** Finds the owner of a key in constant time. */
  identify(key: string, nowMs: number): Identity | undefined {
    const hash = hashSecret(key);
    let found: { row: Known; proof: Buffer } | undefined;
    for (const row of this.#all) {
      for (const proof of [row.hash, row.oldHash]) if (proof && timingSafeEqual(proof, hash)) found = { row, proof };
    }
    if (!found || !isGood(found.row, found.proof, nowMs)) return undefined;
    this.#noteUse(found.row, nowMs);
    return identityOf(found.row, found.proof);
  }

  /** The identity as it is now; undefined when its key has been revoked, replaced, or has expired. */
  present({ origin }: Identity, nowMs: number): Identity | undefined {
    const row = this.#all.find(({ id }) => id === origin.id);
    const proof = row?.proofs.find(({ text }) => text === origin.proof);
    return row && proof && isGood(row, proof.hash, nowMs) ? identityOf(row, proof.hash) : undefined;
  }

  /** As {@link present}, for a request that came with the same key on the same connection: it counts as a use. */
  identifyAgain(identity: Identity, nowMs: number): Identity | undefined {
    const present = this.present(identity, nowMs);
    const row = present && this.#all.find(({ id }) => id === identity.origin.id);
    if (row) this.#noteUse(row, nowMs);
    return present;
  }

  get #all(): Known[] {
    return this.#ofProcess.length > 0 ? [...this.#ofProcess, ...this.#stored] : this.#stored;
  }

  #noteUse(row: Known, nowMs: number): void {
    if (this.#ofProcess.includes(row) || nowMs - (row.used ?? 0) < USED_INTERVAL_MS) return;
    row.used = nowMs;
    const write = (database: Database.Database) => {
      database.prepare(USE).run(row.id, nowMs);
      database.prepare(FORGET_USES).run();
    };
    // A full disk is reported when something is written; reading continues.
    this.#store.log.writeLocally(write).catch(() => undefined);
  }

  #find(id: string): Known | undefined {
    return this.#stored.find((other) => other.id === id || other.name === id);
  }

  #load(): void {
    this.#stored = this.#store.reads.statement<[], KeyRow>(SELECT).all().map(know);
  }
}

function knowOfProcess(name: string, key: string): Known {
  return know({
    id: name,
    name,
    hash: hashSecret(key),
    scope: 'admin',
    collections: null,
    created: 0,
    expires: null,
    used: null,
    oldHash: null,
    oldUntil: null,
  });
}

function know(row: KeyRow): Known {
  const collections = row.collections === null ? undefined : (JSON.parse(row.collections) as string[]);
  const proofs = [row.hash, row.oldHash].flatMap((hash) => (hash ? { hash, text: hash.toString('hex') } : []));
  return { ...row, proofs, rights: { scope: row.scope, collections } };
}

function isGood(row: Known, proof: Buffer, nowMs: number): boolean {
  if (row.expires !== null && row.expires <= nowMs) return false;
  return proof !== row.oldHash || nowMs < row.oldUntil!;
}

function identityOf(row: Known, proof: Buffer): Identity {
  const until = Math.min(row.expires ?? Infinity, proof === row.oldHash ? row.oldUntil! : Infinity);
  return {
    author: { kind: 'key', name: row.name },
    rights: row.rights,
    expiresMs: until === Infinity ? undefined : until,
    origin: { id: row.id, proof: proof.toString('hex') },
  };
}

function describe({ id, name, scope, rights, created, expires, used }: Known): KeyInfo {
  return {
    id,
    name,
    scope,
    collections: rights.collections,
    created: formatTime(created),
    expires: expires === null ? undefined : formatTime(expires),
    used: used === null ? undefined : formatTime(used),
  };
}
