import type Database from 'better-sqlite3';
import {
  compareStrings,
  compareValues,
  formatTime,
  orderValue,
  relatedTo,
  type Document,
  type JsonObject,
  type JsonValue,
  type Query,
} from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { Collections } from './collections.js';
import type { Documents, StoredDocument } from './documents.js';
import type { IndexInfo, Indexes } from './indexes.js';
import { planQuery, type Plan } from './plan.js';
import { Snapshot } from './snapshot.js';
import { StoredRelations, type Rows } from './stored-relations.js';

/** A document that belongs to a query: as it lies in the store, and, once somebody looks at it, in full. */
export class Found {
  #document: Document | undefined;
  /** What is shown with it, where the query has includes. */
  related: JsonObject | undefined;
  constructor(
    readonly stored: StoredDocument,
    readonly data: JsonObject,
  ) {}

  get document(): Document {
    this.#document ??= {
      id: this.stored.id,
      version: this.stored.version,
      created: formatTime(this.stored.created),
      updated: formatTime(this.stored.updated),
      data: this.data,
    };
    return this.#document;
  }
}

/** A stored document as conditions see it: its times are written out only when a condition asks for them. */
class Candidate implements Document {
  readonly id: string;
  readonly version: number;
  readonly data: JsonObject;
  constructor(readonly stored: StoredDocument) {
    this.id = stored.id;
    this.version = stored.version;
    this.data = JSON.parse(stored.data) as JsonObject;
  }

  get created(): string {
    return formatTime(this.stored.created);
  }

  get updated(): string {
    return formatTime(this.stored.updated);
  }
}

/** What a query came to. */
export interface Reading {
  /** The state of the store that it shows. */
  seq: number;
  found: Found[];
  /** True when there are more than were wanted. */
  more: boolean;
  plan: Plan | undefined;
  /** How many documents were read for it. */
  documentsRead: number;
}

/** What reading works with. */
export interface ReaderOptions {
  database: Database.Database;
  file: string;
  collections: Collections;
  documents: Documents;
  indexes: Indexes;
  seq: () => number;
}

/** Queries with an index that gives their order are answered at once, unless they read more than this. */
const MAX_READ_AT_ONCE = 2000;

/** Queries whose includes look up more documents than this are answered with pauses. */
const RELATED_AT_ONCE = 1000;

/** A longer read pauses after so many milliseconds, to let others be served. */
const SLICE_MS = 8;

/** Connections kept for longer reads, each with a view of the store that stays as it was when the read began. */
const MAX_SNAPSHOTS = 6;

/** What reading a query came to. A stream does not tell how many documents were read. */
export interface ReadOutcome {
  plan: Plan | undefined;
  documentsRead: number | null;
  documentsReturned: number;
}

/** How much may be read for one query, whatever it returns. */
export interface ReadLimits {
  /** Documents. */
  documents?: number | undefined;
}

/** Documents that are skipped although they match, because what they were earlier is what counts. */
type Skip = (id: string) => boolean;

/**
 * Answers queries: SQL finds and orders the candidates, the condition decides on each. Long reads run on a connection of
 * their own, whose view of the store does not move, and pause again and again.
 */
export class Reader {
  readonly #options: ReaderOptions;
  readonly #statements = new Map<string, Database.Statement<unknown[], StoredDocument>>();
  readonly #plans = new WeakMap<Query, { plan: Plan; indexes: readonly IndexInfo[] }>();
  readonly #idle: Snapshot[] = [];
  readonly #active = new Set<Snapshot>();
  #paused = false;
  readonly #waiting: ((snapshot: Snapshot) => void)[] = [];
  #snapshots = 0;
  #closed = false;
  /** Hears of every query that was read: what it came to, and how long it took, in milliseconds. */
  onRead: (query: Query, outcome: ReadOutcome, durationMs: number) => void = () => undefined;

  constructor(options: ReaderOptions) {
    this.#options = options;
  }

  /** How a query would be read. Undefined when its collection does not exist. */
  plan(query: Query): Plan | undefined {
    const collection = this.#options.collections.get(query.from);
    if (!collection) return undefined;
    const indexes = this.#options.indexes.usable(collection.number);
    const kept = this.#plans.get(query);
    if (kept?.indexes === indexes) return kept.plan;
    const plan = planQuery(query, collection.number, indexes);
    this.#plans.set(query, { plan, indexes });
    return plan;
  }

  /**
   * Reads the first `wanted` documents of a query.
   *
   * @param skip leaves these ids out
   * @throws {ProblemError} `query-too-costly` when more would have to be read than may be
   */
  async read(query: Query, wanted: number, limits: ReadLimits = {}, skip?: Skip): Promise<Reading> {
    const started = performance.now();
    const reading =
      this.#relatedAtOnce(query, this.#readAtOnce(query, wanted, skip)) ??
      (await this.#readSlowly(query, wanted, limits, skip));
    this.#noteReading(query, reading, started);
    return reading;
  }

  /** As {@link read}, where that is possible without pausing; otherwise undefined. */
  readAtOnce(query: Query, wanted: number): Reading | undefined {
    const started = performance.now();
    const reading = this.#relatedAtOnce(query, this.#readAtOnce(query, wanted));
    if (reading) this.#noteReading(query, reading, started);
    return reading;
  }

  #noteReading(query: Query, { plan, documentsRead, found }: Reading, started: number): void {
    this.onRead(query, { plan, documentsRead, documentsReturned: found.length }, performance.now() - started);
  }

  #readAtOnce(query: Query, wanted: number, skip?: Skip): Reading | undefined {
    const seq = this.#options.seq();
    const plan = this.plan(query);
    if (!plan) return { seq, found: [], more: false, plan, documentsRead: 0 };
    if (!plan.ordered || wanted > MAX_READ_AT_ONCE) return undefined;
    // Mostly SQL has narrowed the candidates down to the result, so that as many as are wanted are all it takes.
    const first = this.#statement(`${plan.sql} LIMIT ${wanted + 1}`).all(...plan.parameters);
    const some = this.#choose(query, plan, seq, first, wanted, skip);
    if (first.length <= wanted || some.more) return some;
    const rows = this.#statement(`${plan.sql} LIMIT ${MAX_READ_AT_ONCE + 1}`).iterate(...plan.parameters);
    const reading = this.#choose(query, plan, seq, rows, wanted, skip);
    return reading.documentsRead > MAX_READ_AT_ONCE ? undefined : reading;
  }

  /** Rows as they are just now, to look up related documents in. */
  get rows(): Rows {
    const { documents } = this.#options;
    return {
      get: (collection, id) => documents.get(collection, id),
      all: (sql, parameters) => this.#statement(sql).iterate(...parameters),
    };
  }

  /**
   * Adds what is related; that belongs to the same state as long as nothing else has its turn. Undefined where it is too much to do
   * without a pause.
   */
  #relatedAtOnce(query: Query, reading: Reading | undefined): Reading | undefined {
    if (!reading || query.includes.length === 0) return reading;
    const relations = new StoredRelations(this.#options, this.rows, true);
    for (const found of reading.found) {
      found.related = relateNext(found, query, relations);
      if (relations.looked > RELATED_AT_ONCE) return undefined;
    }
    return reading;
  }

  #statement(sql: string): Database.Statement<unknown[], StoredDocument> {
    let statement = this.#statements.get(sql);
    if (!statement) {
      if (this.#statements.size > 500) this.#statements.clear();
      statement = this.#options.database.prepare<unknown[], StoredDocument>(sql);
      this.#statements.set(sql, statement);
    }
    return statement;
  }

  /** Of candidates that come in order, the first that belong to the query. */
  #choose(query: Query, plan: Plan, seq: number, rows: Iterable<StoredDocument>, wanted: number, skip?: Skip): Reading {
    const found: Found[] = [];
    let documentsRead = 0;
    for (const stored of rows) {
      documentsRead++;
      const document = new Candidate(stored);
      if (query.matches({ document }) !== true || skip?.(stored.id)) continue;
      if (found.length === wanted) return { seq, found, more: true, plan, documentsRead };
      found.push(new Found(stored, document.data));
    }
    return { seq, found, more: false, plan, documentsRead };
  }

  /** All documents of a query one after the other, at one state of the store, in bounded memory. */
  async *stream(query: Query, limits: ReadLimits = {}, onSeq?: (seq: number) => void): AsyncGenerator<Found> {
    const plan = this.plan(query);
    const snapshot = await this.#take();
    // What whoever reads the stream does meanwhile is not counted.
    let spentMs = 0;
    let documentsReturned = 0;
    try {
      const seq = snapshot.begin();
      onSeq?.(seq);
      if (!plan) return;
      const stream = plan.ordered ? this.#streamOrdered : this.#streamSorted;
      let resumed = performance.now();
      const relations = query.includes.length > 0 ? new StoredRelations(this.#options, snapshot, true) : undefined;
      relations?.goOn();
      for await (const found of stream.call(this, query, plan, snapshot, limits)) {
        if (relations) found.related = relateNext(found, query, relations);
        spentMs += performance.now() - resumed;
        documentsReturned++;
        yield found;
        resumed = performance.now();
      }
    } finally {
      this.onRead(query, { plan, documentsRead: null, documentsReturned }, spentMs);
      this.#release(snapshot);
    }
  }

  close(): void {
    this.#closed = true;
    for (const snapshot of this.#idle.splice(0)) snapshot.close();
  }

  async *#streamOrdered(query: Query, plan: Plan, snapshot: Snapshot, limits: ReadLimits): AsyncGenerator<Found> {
    let left = query.limit ?? Number.POSITIVE_INFINITY;
    for await (const stored of paced(bounded(snapshot.iterate(plan), limits))) {
      const document = new Candidate(stored);
      if (query.matches({ document }) !== true) continue;
      if (left-- === 0) return;
      yield new Found(stored, document.data);
    }
  }

  /** Sorts by what the order looks at alone, and reads the documents again one by one in that order. */
  async *#streamSorted(query: Query, plan: Plan, snapshot: Snapshot, limits: ReadLimits): AsyncGenerator<Found> {
    const places: { id: string; values: (JsonValue | undefined)[] }[] = [];
    for await (const stored of paced(bounded(snapshot.iterate(plan), limits))) {
      const document = new Candidate(stored);
      if (query.matches({ document }) !== true) continue;
      places.push({ id: document.id, values: query.order.map((term) => orderValue(document, term)) });
    }
    places.sort((a, b) => {
      for (const [index, { descending }] of query.order.entries()) {
        const difference = compareValues(a.values[index], b.values[index]);
        if (difference !== 0) return descending ? -difference : difference;
      }
      return compareStrings(a.id, b.id);
    });
    const collection = this.#options.collections.get(query.from)!.number;
    for await (const { id } of paced(places.slice(0, query.limit))) {
      const stored = snapshot.get(collection, id);
      if (stored) yield new Found(stored, JSON.parse(stored.data) as JsonObject);
    }
  }

  async #readSlowly(query: Query, wanted: number, limits: ReadLimits, skip?: Skip): Promise<Reading> {
    const plan = this.plan(query)!;
    const snapshot = await this.#take();
    try {
      const seq = snapshot.begin();
      const found: Found[] = [];
      let documentsRead = 0;
      let more = false;
      for await (const stored of paced(bounded(snapshot.iterate(plan), limits))) {
        documentsRead++;
        const document = new Candidate(stored);
        if (query.matches({ document }) !== true || skip?.(document.id)) continue;
        const candidate = new Found(stored, document.data);
        if (plan.ordered && found.length === wanted) {
          more = true;
          break;
        }
        if (plan.ordered) found.push(candidate);
        else more = keepFirst(found, candidate, wanted, query) || more;
      }
      if (query.includes.length > 0) {
        const relations = new StoredRelations(this.#options, snapshot, true);
        for await (const one of paced(found)) one.related = relateNext(one, query, relations);
      }
      return { seq, found, more, plan, documentsRead };
    } finally {
      this.#release(snapshot);
    }
  }

  /**
   * Lets long reads come to an end, so that the write-ahead log can begin anew, and then runs `whenNoneRuns`. New ones wait
   * meanwhile; those that have run for longer than `graceMs` are broken off.
   */
  async interrupt(graceMs: number, whenNoneRuns: () => void): Promise<void> {
    if (this.#paused) return;
    this.#paused = true;
    while (this.#active.size > 0 && !this.#closed) {
      for (const snapshot of this.#active) {
        if (snapshot.ageMs <= graceMs) continue;
        snapshot.breakOff();
        // Its reader may not look again for long; what it held on to is free all the same.
        this.#active.delete(snapshot);
      }
      if (this.#active.size === 0) break;
      await new Promise((resolve) => setTimeout(resolve, 20));
    }
    this.#paused = false;
    if (this.#closed) return;
    whenNoneRuns();
    for (const next of this.#waiting.splice(0)) void this.#take().then(next);
  }

  #take(): Promise<Snapshot> {
    if (this.#paused) return new Promise((resolve) => this.#waiting.push(resolve));
    const idle = this.#idle.pop();
    if (idle) return Promise.resolve(this.#activate(idle));
    if (this.#snapshots < MAX_SNAPSHOTS) {
      this.#snapshots++;
      return Promise.resolve(this.#activate(new Snapshot(this.#options.file)));
    }
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  #activate(snapshot: Snapshot): Snapshot {
    this.#active.add(snapshot);
    return snapshot;
  }

  #release(snapshot: Snapshot): void {
    snapshot.end();
    this.#active.delete(snapshot);
    const next = this.#paused ? undefined : this.#waiting.shift();
    if (next) next(this.#activate(snapshot));
    else if (this.#closed) snapshot.close();
    else this.#idle.push(snapshot);
  }
}

/** What is related to one more document of a result. */
function relateNext({ document }: Found, query: Query, relations: StoredRelations): JsonObject {
  relations.next();
  return relatedTo(document, query, relations);
}

/** Keeps the first `wanted` documents in the order of the query. Returns whether one had to go. */
function keepFirst(kept: Found[], candidate: Found, wanted: number, query: Query): boolean {
  let low = 0;
  let high = kept.length;
  while (low < high) {
    const middle = (low + high) >>> 1;
    if (query.compare(kept[middle]!.document, candidate.document) < 0) low = middle + 1;
    else high = middle;
  }
  if (low < wanted) kept.splice(low, 0, candidate);
  else return true;
  return kept.length > wanted ? Boolean(kept.pop()) : false;
}

/** Passes items on up to a limit; then whoever asked for them is told so. */
function* bounded<Item>(items: Iterable<Item>, { documents = Infinity }: ReadLimits): Generator<Item> {
  let left = documents;
  for (const item of items) {
    if (left-- === 0) {
      throw problemError(
        'query-too-costly',
        `The query would read more than ${documents} documents. Ask for less, or have an index made for it.`,
      );
    }
    yield item;
  }
}

/** Passes items on, and lets others be served whenever a slice of time is used up. */
async function* paced<Item>(items: Iterable<Item>): AsyncGenerator<Item> {
  let sliceEnd = performance.now() + SLICE_MS;
  for (const item of items) {
    yield item;
    if (performance.now() < sliceEnd) continue;
    await new Promise((resolve) => setImmediate(resolve));
    sliceEnd = performance.now() + SLICE_MS;
  }
}
