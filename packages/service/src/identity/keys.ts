import { createHash, randomBytes, randomUUID, timingSafeEqual } from 'node:crypto';
import type Database from 'better-sqlite3';
import type { Author } from '@uproar/core';

/** Who is asking, once their key is known. */
export type Identity = Author;

/** The fewest characters a key of one's own may have. */
export const MIN_KEY_LENGTH = 16;

interface KeyRow {
  name: string;
  hash: Buffer;
}

/**
 * The keys of a store. They are long and random, so a plain SHA-256 of each is safe to keep; the keys themselves
 * are not kept.
 */
export class Keys {
  readonly #database: Database.Database;
  readonly #fromEnvironment: KeyRow | undefined;
  #stored: KeyRow[];

  /** @param environmentKey a key that holds for this process only, from `UPROAR_ADMIN_KEY` */
  constructor(database: Database.Database, environmentKey?: string) {
    this.#database = database;
    this.#fromEnvironment = environmentKey ? { name: 'environment', hash: hashKey(environmentKey) } : undefined;
    this.#stored = this.#readAll();
  }

  /** Makes the first key of a store that has none. Returns it, the only time it is to be seen. */
  createFirst(): string | undefined {
    if (this.#fromEnvironment || this.#stored.length > 0) return undefined;
    const key = `uproar-${randomBytes(24).toString('base64url')}`;
    this.#database
      .prepare('INSERT INTO keys (id, name, hash, created) VALUES (?, ?, ?, ?)')
      .run(randomUUID(), 'first', hashKey(key), Date.now());
    this.#stored = this.#readAll();
    return key;
  }

  /** Tells whose key this is, in a time that does not depend on how much of it is right. */
  identify(key: string): Identity | undefined {
    const hash = hashKey(key);
    let found: KeyRow | undefined;
    for (const row of this.#fromEnvironment ? [this.#fromEnvironment, ...this.#stored] : this.#stored) {
      if (timingSafeEqual(row.hash, hash)) found = row;
    }
    return found && { kind: 'key', name: found.name };
  }

  #readAll(): KeyRow[] {
    return this.#database.prepare<[], KeyRow>('SELECT name, hash FROM keys ORDER BY created').all();
  }
}

function hashKey(key: string): Buffer {
  return createHash('sha256').update(key).digest();
}
