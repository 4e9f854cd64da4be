import { randomUUID, timingSafeEqual } from 'node:crypto';
import type Database from 'better-sqlite3';
import { formatTime } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { Identity } from './identity.js';
import { hashSecret, newSecret } from './secrets.js';

/** The minimum length of a key that is set by the operator. */
export const MIN_KEY_LENGTH = 16;

/**
 * More keys would slow down every request, and suggest a program that creates keys where accounts or tokens are meant.
 */
const MAX_KEYS = 1000;

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
  /** Kept as one object, so that what the key may do is worked out once. */
  rights: Extract<Identity['rights'], { scope: unknown }>;
}

const SELECT = `
  SELECT id, name, hash, scope, collections, created, expires, used, old_hash AS oldHash, old_until AS oldUntil
  FROM keys ORDER BY created, name`;

/** The keys of a store. They are long and random, so a plain SHA-256 of each is safe to keep. */
export class Keys {
  readonly #database: Database.Database;
  readonly #fromEnvironment: Known | undefined;
  #stored: Known[] = [];

  /** @param environmentKey a key that holds for this process only, from `UPROAR_ADMIN_KEY` */
  constructor(database: Database.Database, environmentKey?: string) {
    this.#database = database;
    this.#fromEnvironment = environmentKey
      ? know({
          id: 'environment',
          name: 'environment',
          hash: hashSecret(environmentKey),
          scope: 'admin',
          collections: null,
          created: 0,
          expires: null,
          used: null,
          oldHash: null,
          oldUntil: null,
        })
      : undefined;
    this.#reload();
  }

  /** Makes the first key of a store that has none. Returns it, the only time it is to be seen. */
  createFirst(): string | undefined {
    if (this.#fromEnvironment || this.#stored.length > 0) return undefined;
    return this.create({ name: 'first', scope: 'admin' }).key;
  }

  /**
   * Makes a key. It is not to be seen again.
   *
   * @throws {ProblemError} `key-exists`, or `limit-reached` keys
   */
  create({ name, scope, collections, expiresMs }: KeyForm): { key: string; info: KeyInfo } {
    if (this.#all.some((row) => row.name === name)) {
      throw problemError('key-exists', `A key "${name}" exists already. Rotate it, or choose another name.`, {
        pointer: '/name',
      });
    }
    if (this.#stored.length >= MAX_KEYS) {
      throw problemError(
        'limit-reached',
        `A store has at most ${MAX_KEYS} keys. Use accounts or tokens for people and devices.`,
      );
    }
    const key = newSecret('uproar');
    const id = randomUUID();
    this.#database
      .prepare('INSERT INTO keys (id, name, hash, created, scope, collections, expires) VALUES (?, ?, ?, ?, ?, ?, ?)')
      .run(
        id,
        name,
        hashSecret(key),
        Date.now(),
        scope,
        collections ? JSON.stringify(collections) : null,
        expiresMs ?? null,
      );
    this.#reload();
    return { key, info: this.get(id)! };
  }

  list(): KeyInfo[] {
    return this.#stored.map(describe);
  }

  get(id: string): KeyInfo | undefined {
    const row = this.#stored.find((other) => other.id === id || other.name === id);
    return row && describe(row);
  }

  /** Gives a key another secret. The old one is good for `keepOldMs` longer. Undefined where there is no such key. */
  rotate(id: string, keepOldMs: number): { key: string; info: KeyInfo } | undefined {
    const row = this.#stored.find((other) => other.id === id || other.name === id);
    if (!row) return undefined;
    const key = newSecret('uproar');
    this.#database
      .prepare('UPDATE keys SET hash = ?, old_hash = ?, old_until = ? WHERE id = ?')
      .run(hashSecret(key), keepOldMs > 0 ? row.hash : null, keepOldMs > 0 ? Date.now() + keepOldMs : null, row.id);
    this.#reload();
    return { key, info: this.get(row.id)! };
  }

  /** Revokes a key. False if it does not exist. */
  revoke(id: string): boolean {
    const row = this.#stored.find((other) => other.id === id || other.name === id);
    if (!row) return false;
    this.#database.prepare('DELETE FROM keys WHERE id = ?').run(row.id);
    this.#reload();
    return true;
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
    const proof = row && [row.hash, row.oldHash].find((hash) => hash?.toString('hex') === origin.proof);
    return row && proof && isGood(row, proof, nowMs) ? identityOf(row, proof) : undefined;
  }

  get #all(): Known[] {
    return this.#fromEnvironment ? [this.#fromEnvironment, ...this.#stored] : this.#stored;
  }

  #noteUse(row: Known, nowMs: number): void {
    if (row === this.#fromEnvironment || nowMs - (row.used ?? 0) < USED_INTERVAL_MS) return;
    row.used = nowMs;
    try {
      this.#database.prepare('UPDATE keys SET used = ? WHERE id = ?').run(nowMs, row.id);
    } catch {
      // A full disk is reported when something is written; reading continues.
    }
  }

  #reload(): void {
    this.#stored = this.#database.prepare<[], KeyRow>(SELECT).all().map(know);
  }
}

function know(row: KeyRow): Known {
  const collections = row.collections === null ? undefined : (JSON.parse(row.collections) as string[]);
  return { ...row, rights: { scope: row.scope, collections } };
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
