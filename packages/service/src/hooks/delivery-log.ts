import type Database from 'better-sqlite3';
import { formatAddress, formatTime } from '@uproar/core';
import { problemError, type Delivery, type DeliveryResult } from '@uproar/protocol';
import type { OutcomeOf } from '../state/outcomes.js';
import type { Store } from '../store/index.js';
import type { Attempt } from './hook-worker.js';

/** Attempts that are kept for each hook: so many that succeeded, and so many that failed. */
const KEPT = 500;

/** Attempts are written at most this often, in milliseconds, and so many for a hook at a time: the newest. */
const FLUSH_MS = 1000;
const MAX_WAITING = 500;

interface Row {
  number: number;
  details: string;
}

const COLUMNS = 'number, details';
const LIST = `SELECT ${COLUMNS} FROM deliveries WHERE hook = ? AND number < ? AND failed >= ? ORDER BY number DESC LIMIT ?`;
const GET = `SELECT ${COLUMNS} FROM deliveries WHERE hook = ? AND number = ?`;
const INSERT = 'INSERT INTO deliveries (hook, time, failed, details) VALUES (?, ?, ?, ?)';
const TRIM = `
  DELETE FROM deliveries WHERE hook = :hook AND failed = :failed AND number <= (
    SELECT number FROM deliveries WHERE hook = :hook AND failed = :failed ORDER BY number DESC LIMIT 1 OFFSET ${KEPT})`;
const ERASE = "DELETE FROM deliveries WHERE json_extract(details, '$.subject') IN (SELECT value FROM json_each(?))";
const FORGET = 'DELETE FROM deliveries WHERE hook NOT IN (SELECT id FROM hooks)';

/** What was sent, and what came back: the newest attempts of each hook, on the node that made them. */
export class DeliveryLog {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  readonly #waiting = new Map<string, { delivered: Attempt[]; failed: Attempt[] }>();
  #timer: NodeJS.Timeout | undefined;

  constructor(store: Pick<Store, 'reads' | 'log'>) {
    this.#store = store;
    store.log.onBatch(({ records, outcomes }) => {
      for (const [index, record] of records.entries()) {
        if (record.kind !== 'documents-erased') continue;
        const { done } = outcomes[index] as OutcomeOf<typeof record>;
        void this.#forget(record.ids.slice(0, done).map((id) => formatAddress(record.collection, id)));
      }
    });
  }

  add(attempt: Attempt): void {
    let waiting = this.#waiting.get(attempt.hook);
    if (!waiting) this.#waiting.set(attempt.hook, (waiting = { delivered: [], failed: [] }));
    const list = attempt.delivered ? waiting.delivered : waiting.failed;
    list.push(attempt);
    if (list.length > MAX_WAITING) list.shift();
    this.#timer ??= setTimeout(() => void this.flush(), FLUSH_MS).unref();
  }

  /** Forgets the attempts to deliver changes of documents that were erased. */
  async #forget(subjects: string[]): Promise<void> {
    await this.flush();
    const erase = (database: Database.Database) => database.prepare(ERASE).run(JSON.stringify(subjects));
    await this.#store.log.writeLocally(erase).catch(() => undefined);
  }

  /** Attempts of a hook before a number, newest first. */
  async list(hook: string, before: number, limit: number, onlyFailed: boolean): Promise<Delivery[]> {
    await this.flush();
    return this.#store.reads
      .statement<[string, number, number, number], Row>(LIST)
      .all(hook, before, onlyFailed ? 1 : 0, limit)
      .map(readRow);
  }

  /** @throws {ProblemError} `no-such-delivery` */
  async get(hook: string, number: number): Promise<Delivery> {
    await this.flush();
    const row = this.#store.reads.statement<[string, number], Row>(GET).get(hook, number);
    if (!row)
      throw problemError('no-such-delivery', `The delivery ${number} of this hook is not on record (any more).`);
    return readRow(row);
  }

  /** Writes what waits. On a full disk it is lost: deliveries go on. */
  async flush(): Promise<void> {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    if (this.#waiting.size === 0) return;
    const waiting = [...this.#waiting];
    this.#waiting.clear();
    const write = (database: Database.Database) => {
      const insert = database.prepare(INSERT);
      const trim = database.prepare(TRIM);
      for (const [hook, { delivered, failed }] of waiting) {
        const attempts = [...delivered, ...failed].sort((one, other) => one.timeMs - other.timeMs);
        for (const attempt of attempts) {
          insert.run(hook, attempt.timeMs, attempt.delivered ? 0 : 1, JSON.stringify(describeAttempt(attempt)));
        }
        for (const kind of [0, 1]) trim.run({ hook, failed: kind });
      }
      database.prepare(FORGET).run();
    };
    await this.#store.log.writeLocally(write).catch(() => undefined);
  }
}

/** An attempt as it is shown. */
export function describeAttempt({ event, attempt, timeMs, answer, delivered }: Attempt): DeliveryResult {
  return {
    event: event.id,
    type: event.type,
    ...(event.subject === undefined ? {} : { subject: event.subject }),
    seq: event.seq,
    attempt,
    time: formatTime(timeMs),
    durationMs: answer.durationMs,
    delivered,
    ...(answer.status === undefined ? {} : { status: answer.status }),
    ...(answer.error === undefined ? {} : { error: answer.error }),
    ...(answer.text === '' ? {} : { answer: answer.text }),
  };
}

function readRow({ number, details }: Row): Delivery {
  return { number, ...(JSON.parse(details) as DeliveryResult) };
}
