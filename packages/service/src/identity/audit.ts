import type Database from 'better-sqlite3';
import { formatTime, type JsonObject } from '@uproar/core';
import type { Store } from '../store/index.js';

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

const LIST = `
  SELECT number, time, event, identity, address, request, count, detail FROM audit
  WHERE number < ? AND (? IS NULL OR event = ?) ORDER BY number DESC LIMIT ?`;

/** The audit log: kept in the store, bounded, and written about once a second. */
export class Audit {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  #waiting = new Map<string, Waiting>();
  readonly #recent = new Map<string, { number: number; timeMs: number }>();
  #timer: NodeJS.Timeout | undefined;
  /** Resolves when the flushes so far are done. */
  #flushing: Promise<void> = Promise.resolve();

  constructor(store: Pick<Store, 'reads' | 'log'>) {
    this.#store = store;
  }

  add(event: AuditEvent, timeMs = Date.now()): void {
    const key = JSON.stringify([event.event, event.identity, event.address, event.detail]);
    const waiting = this.#waiting.get(key);
    if (waiting) waiting.count++;
    else if (this.#waiting.size < MAX_WAITING) this.#waiting.set(key, { timeMs, event, count: 1 });
    this.#timer ??= setTimeout(() => void this.flush(), FLUSH_MS).unref();
  }

  /** Entries, newest first. */
  async list(before: number, limit: number, event?: string): Promise<AuditEntry[]> {
    await this.flush();
    return this.#store.reads
      .statement<[number, string | null, string | null, number], Row>(LIST)
      .all(before, event ?? null, event ?? null, limit)
      .map(({ time, address, request, detail, ...rest }) => ({
        ...rest,
        time: formatTime(time),
        ...(address === null ? {} : { address }),
        ...(request === null ? {} : { request }),
        detail: JSON.parse(detail) as JsonObject,
      }));
  }

  /** Writes what waits. Resolves once it is on disk, or waits again because the disk is full. */
  flush(): Promise<void> {
    this.#flushing = this.#flushing.then(() => this.#flushNow());
    return this.#flushing;
  }

  async #flushNow(): Promise<void> {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    const waiting = this.#waiting;
    if (waiting.size === 0) return;
    this.#waiting = new Map();
    try {
      await this.#store.log.writeLocally((database) => this.#write(database, waiting));
    } catch {
      // A full disk must not stop the service from refusing; the events wait.
      for (const [key, { count }] of this.#waiting) {
        const earlier = waiting.get(key);
        if (earlier) earlier.count += count;
        else if (waiting.size < MAX_WAITING) waiting.set(key, this.#waiting.get(key)!);
      }
      this.#waiting = waiting;
      this.#timer ??= setTimeout(() => void this.flush(), FLUSH_MS * 10).unref();
    }
  }

  #write(database: Database.Database, waiting: ReadonlyMap<string, Waiting>): void {
    const insert = database.prepare(
      'INSERT INTO audit (time, event, identity, address, request, count, detail) VALUES (?, ?, ?, ?, ?, ?, ?)',
    );
    const again = database.prepare('UPDATE audit SET count = count + ? WHERE number = ?');
    let last = 0;
    for (const [key, { timeMs, event, count }] of waiting) {
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
    if (last > MAX_ENTRIES) database.prepare('DELETE FROM audit WHERE number <= ?').run(last - MAX_ENTRIES);
  }
}
