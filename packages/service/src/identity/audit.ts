import type Database from 'better-sqlite3';
import { formatTime, type JsonObject } from '@uproar/core';

/** Something that happened to access: a sign-in, a change of a key or of the policy, a refusal. */
export interface AuditEvent {
  /** What happened: `sign-in`, `policy-changed`, `refused` … */
  event: string;
  identity: string;
  address?: string | undefined;
  /** The id of the request. */
  request?: string | undefined;
  detail?: JsonObject;
}

/** An event as it is listed. */
export interface AuditEntry extends AuditEvent {
  number: number;
  time: string;
  /** How often this happened within a minute. */
  count: number;
  detail: JsonObject;
}

interface Row {
  number: number;
  time: number;
  event: string;
  identity: string;
  address: string | null;
  request: string | null;
  count: number;
  detail: string;
}

interface Waiting {
  timeMs: number;
  event: AuditEvent;
  count: number;
}

/** Equal entries within this time are counted instead of repeated, so that floods do not fill the disk. */
const SAME_WITHIN_MS = 60_000;
const FLUSH_MS = 1000;
const MAX_ENTRIES = 100_000;
const MAX_WAITING = 1000;

/** The audit log: kept in the store, bounded, and written about once a second. */
export class Audit {
  readonly #database: Database.Database;
  readonly #waiting = new Map<string, Waiting>();
  readonly #recent = new Map<string, { number: number; timeMs: number }>();
  #timer: NodeJS.Timeout | undefined;

  constructor(database: Database.Database) {
    this.#database = database;
  }

  add(event: AuditEvent, timeMs = Date.now()): void {
    const key = JSON.stringify([event.event, event.identity, event.address, event.detail]);
    const waiting = this.#waiting.get(key);
    if (waiting) waiting.count++;
    else if (this.#waiting.size < MAX_WAITING) this.#waiting.set(key, { timeMs, event, count: 1 });
    this.#timer ??= setTimeout(() => this.flush(), FLUSH_MS).unref();
  }

  /** Entries, newest first. */
  list(before: number, limit: number, event?: string): AuditEntry[] {
    this.flush();
    return this.#database
      .prepare<[number, string | null, string | null, number], Row>(
        `SELECT number, time, event, identity, address, request, count, detail FROM audit
         WHERE number < ? AND (? IS NULL OR event = ?) ORDER BY number DESC LIMIT ?`,
      )
      .all(before, event ?? null, event ?? null, limit)
      .map(({ time, address, request, detail, ...rest }) => ({
        ...rest,
        time: formatTime(time),
        ...(address === null ? {} : { address }),
        ...(request === null ? {} : { request }),
        detail: JSON.parse(detail) as JsonObject,
      }));
  }

  /** Writes what waits. */
  flush(): void {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    if (this.#waiting.size === 0) return;
    try {
      this.#database.transaction(() => this.#write())();
    } catch {
      // A full disk must not stop the service from refusing; the events wait.
      this.#timer = setTimeout(() => this.flush(), FLUSH_MS * 10).unref();
    }
  }

  #write(): void {
    const insert = this.#database.prepare(
      'INSERT INTO audit (time, event, identity, address, request, count, detail) VALUES (?, ?, ?, ?, ?, ?, ?)',
    );
    const again = this.#database.prepare('UPDATE audit SET count = count + ? WHERE number = ?');
    let last = 0;
    for (const [key, { timeMs, event, count }] of this.#waiting) {
      const earlier = this.#recent.get(key);
      if (earlier && timeMs - earlier.timeMs < SAME_WITHIN_MS) {
        again.run(count, earlier.number);
        continue;
      }
      const { identity, address, request, detail } = event;
      const { lastInsertRowid } = insert.run(
        timeMs,
        event.event,
        identity,
        address ?? null,
        request ?? null,
        count,
        JSON.stringify(detail ?? {}),
      );
      last = Number(lastInsertRowid);
      if (this.#recent.size > 10_000) this.#recent.clear();
      this.#recent.set(key, { number: last, timeMs });
    }
    this.#waiting.clear();
    if (last > MAX_ENTRIES) this.#database.prepare('DELETE FROM audit WHERE number <= ?').run(last - MAX_ENTRIES);
  }
}
