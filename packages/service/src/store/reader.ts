import type Database from 'better-sqlite3';
import { formatTime, relatedTo, type Document, type JsonObject, type Query, WorkLimitError } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { Collections } from './collections.js';
import { parseStored, stringifyStored, type Documents, type StoredDocument } from './documents.js';
import type { IndexInfo, Indexes } from './indexes.js';
import { planQuery, type Plan } from './plan.js';
import { Snapshot } from './snapshot.js';
import { SortedPlaces } from './sorted-places.js';
import { SnapshotPool } from './snapshot-pool.js';
import { StoredRelations, type Rows } from './stored-relations.js';
import { asCostly, tooManyBytes, tooMuchWork } from '../limits/costs.js';

/** A document that belongs to a query: as it lies in the store, and, once somebody looks at it, in full. */
export class Found {
  #document: Document | undefined;
  /** What is shown with it, where the query has includes. */
  related: JsonObject | undefined;
  #text: string | undefined;
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

  /** The document as a query shows it, as JSON text. */
  textFor(query: Query): string {
    if (this.#text === undefined) {
      const text = query.whole ? stringifyStored(this.stored) : JSON.stringify(query.show(this.document));
      this.#text = this.related ? `${text.slice(0, -1)},"related":${JSON.stringify(this.related)}}` : text;
    }
    return this.#text;
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
    this.data = parseStored(stored.data);
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
  /** The most bytes of one document. */
  documentBytes: number;
  /** How long a long read waits for its turn, in milliseconds. */
  waitMs?: number | undefined;
}

/** Queries with an index that gives their order are answered at once, unless they read more than this. */
const MAX_READ_AT_ONCE = 2000;

/** Queries whose includes look up more documents than this are answered with pauses. */
const RELATED_AT_ONCE = 1000;

/** A longer read pauses after so many milliseconds, to let others be served. */
const SLICE_MS = 8;

/** Queries whose conditions take more steps than this are answered with pauses. */
const WORK_AT_ONCE = 1_000_000;

/** Rows that can take more than this are read one by one, so that reading can stop. */
const ROWS_AT_ONCE_BYTES = 4 * 1024 * 1024;

/** What a result may take where no budget is given. */
const DEFAULT_READ_BYTES = 64 * 1024 * 1024;

/** A stream with includes may look up so many bytes for each of its documents. */
const STREAMED_RELATED_BYTES = 16 * 1024 * 1024;

/** What reading a query came to. A stream does not tell how many documents were read. */
export interface ReadOutcome {
  plan: Plan | undefined;
  documentsRead: number | null;
  documentsReturned: number;
}

/** What one query may use, whatever it returns. */
export interface ReadLimits {
  /** Documents read. */
  documents?: number | undefined;
  /** Bytes of the result as JSON; a result that would take more ends before that, with more to come. */
  bytes?: number | undefined;
  /** True where a result that is cut for its bytes is of no use, and refused instead. */
  whole?: boolean | undefined;
  /** Steps that its conditions may take. */
  work?: number | undefined;
  /** For whom it is read; all that is read for one takes turns. */
  holder?: string | undefined;
  /** Is told of the bytes of each document that is taken into a result; ends the reading by an error. */
  onBytes?: ((bytes: number) => void) | undefined;
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
  readonly #pool: SnapshotPool;
  /** Hears of every query that was read: what it came to, and how long it took, in milliseconds. */
  onRead: (query: Query, outcome: ReadOutcome, durationMs: number) => void = () => undefined;

  constructor(options: ReaderOptions) {
    this.#options = options;
    this.#pool = new SnapshotPool(() => new Snapshot(options.file), options.waitMs);
  }

  /** How many long reads run, and how many wait for their turn. */
  get load(): { running: number; waiting: number } {
    return this.#pool.load;
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
      this.#readAtOnce(query, wanted, limits, skip) ?? (await this.#readSlowly(query, wanted, limits, skip));
    this.#noteReading(query, reading, started);
    return reading;
  }

  /** As {@link read}, where that is possible without pausing; otherwise undefined. */
  readAtOnce(query: Query, wanted: number, limits: ReadLimits = {}): Reading | undefined {
    const started = performance.now();
    const reading = this.#readAtOnce(query, wanted, limits);
    if (reading) this.#noteReading(query, reading, started);
    return reading;
  }

  #noteReading(query: Query, { plan, documentsRead, found }: Reading, started: number): void {
    this.onRead(query, { plan, documentsRead, documentsReturned: found.length }, performance.now() - started);
  }

  #readAtOnce(query: Query, wanted: number, limits: ReadLimits, skip?: Skip): Reading | undefined {
    const seq = this.#options.seq();
    const plan = this.plan(query);
    if (!plan) return { seq, found: [], more: false, plan, documentsRead: 0 };
    if (!plan.ordered || wanted > MAX_READ_AT_ONCE) return undefined;
    query.work.limitTo(WORK_AT_ONCE);
    try {
      // Mostly SQL has narrowed the candidates down to the result, so that as many as are wanted are all it takes.
      const first = this.#statement(`${plan.sql} LIMIT ${wanted + 1}`);
      const rows =
        this.#mayTake(query, wanted + 1) > ROWS_AT_ONCE_BYTES
          ? first.iterate(...plan.parameters)
          : first.all(...plan.parameters);
      const some = this.#choose(query, plan, seq, rows, wanted, limits, skip);
      if (!some || some.documentsRead <= wanted || some.more) return some;
      const all = this.#statement(`${plan.sql} LIMIT ${MAX_READ_AT_ONCE + 1}`).iterate(...plan.parameters);
      const reading = this.#choose(query, plan, seq, all, wanted, limits, skip);
      return reading && reading.documentsRead > MAX_READ_AT_ONCE ? undefined : reading;
    } catch (error) {
      // What takes more work than may be done in one go may still be within what one document may take.
      if (error instanceof WorkLimitError) return undefined;
      throw error;
    } finally {
      query.work.limitTo(Infinity);
    }
  }

  /** The most bytes that so many documents of a collection can take. */
  #mayTake({ from }: Query, documents: number): number {
    const { collections, documentBytes } = this.#options;
    return Math.min(collections.get(from)?.sizeBytes ?? 0, documents * documentBytes);
  }

  /** Rows as they are just now, to look up related documents in. */
  get rows(): Rows {
    const { documents } = this.#options;
    return {
      get: (collection, id) => documents.get(collection, id),
      all: (sql, parameters) => this.#statement(sql).iterate(...parameters),
    };
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

  /**
   * Of candidates that come in order, the first that belong to the query, with what is related to them. Undefined where that is too
   * much to do without a pause.
   */
  #choose(
    query: Query,
    plan: Plan,
    seq: number,
    rows: Iterable<StoredDocument>,
    wanted: number,
    limits: ReadLimits,
    skip?: Skip,
  ): Reading | undefined {
    const page = new Page(query, wanted, limits);
    const relations =
      query.includes.length > 0 ? new StoredRelations(this.#options, this.rows, true, limits) : undefined;
    let documentsRead = 0;
    for (const stored of rows) {
      documentsRead++;
      const document = new Candidate(stored);
      if (query.matches({ document }) !== true || skip?.(stored.id)) continue;
      const found = new Found(stored, document.data);
      if (relations && !page.full) found.related = relateNext(found, query, relations);
      if (relations && relations.looked > RELATED_AT_ONCE) return undefined;
      if (!page.add(found)) break;
    }
    return { seq, found: page.found, more: page.more, plan, documentsRead };
  }

  /** All documents of a query one after the other, at one state of the store, in bounded memory. */
  async *stream(query: Query, limits: ReadLimits = {}, onSeq?: (seq: number) => void): AsyncGenerator<Found> {
    const plan = this.plan(query);
    const snapshot = await this.#pool.take(limits.holder);
    // What whoever reads the stream does meanwhile is not counted.
    let spentMs = 0;
    let documentsReturned = 0;
    try {
      const seq = snapshot.begin();
      onSeq?.(seq);
      if (!plan) return;
      const stream = plan.ordered ? this.#streamOrdered : this.#streamSorted;
      let resumed = performance.now();
      const related = { ...limits, bytes: STREAMED_RELATED_BYTES };
      const relations =
        query.includes.length > 0 ? new StoredRelations(this.#options, snapshot, true, related) : undefined;
      relations?.goOn();
      for await (const found of stream.call(this, query, plan, snapshot, limits)) {
        if (relations) found.related = relateNext(found, query, relations);
        spentMs += performance.now() - resumed;
        documentsReturned++;
        yield found;
        resumed = performance.now();
      }
    } catch (error) {
      throw asCostly(error);
    } finally {
      this.onRead(query, { plan, documentsRead: null, documentsReturned }, spentMs);
      this.#pool.release(snapshot);
    }
  }

  close(): void {
    this.#pool.close();
  }

  async *#streamOrdered(query: Query, plan: Plan, snapshot: Snapshot, limits: ReadLimits): AsyncGenerator<Found> {
    let left = query.limit ?? Number.POSITIVE_INFINITY;
    for await (const stored of paced(bounded(snapshot.iterate(plan), limits, query))) {
      const document = new Candidate(stored);
      if (query.matches({ document }) !== true) continue;
      if (left-- === 0) return;
      yield new Found(stored, document.data);
    }
  }

  /** Sorts by what the order looks at alone, and reads the documents again one by one in that order. */
  async *#streamSorted(query: Query, _plan: Plan, snapshot: Snapshot, limits: ReadLimits): AsyncGenerator<Found> {
    const { places } = await this.#sort(query, _plan, snapshot, query.limit ?? Infinity, limits);
    const collection = this.#options.collections.get(query.from)!.number;
    for await (const { id } of paced(places)) {
      const stored = snapshot.get(collection, id);
      if (stored) yield new Found(stored, parseStored(stored.data));
    }
  }

  /** The first places of a query whose candidates do not come in its order, and how many documents were read for them. */
  async #sort(query: Query, plan: Plan, snapshot: Snapshot, wanted: number, limits: ReadLimits, skip?: Skip) {
    const places = new SortedPlaces(query, wanted);
    let documentsRead = 0;
    for await (const stored of paced(bounded(snapshot.iterate(plan), limits, query))) {
      documentsRead++;
      const document = new Candidate(stored);
      if (query.matches({ document }) === true && !skip?.(document.id)) places.add(document);
    }
    return { places: places.take(), documentsRead };
  }

  async #readSlowly(query: Query, wanted: number, limits: ReadLimits, skip?: Skip): Promise<Reading> {
    const plan = this.plan(query)!;
    const snapshot = await this.#pool.take(limits.holder);
    try {
      const seq = snapshot.begin();
      const page = new Page(query, wanted, limits);
      const relations =
        query.includes.length > 0 ? new StoredRelations(this.#options, snapshot, true, limits) : undefined;
      let documentsRead = 0;
      const add = (stored: StoredDocument, document: Pick<Document, 'data'>) => {
        const found = new Found(stored, document.data);
        if (relations && !page.full) found.related = relateNext(found, query, relations);
        return page.add(found);
      };
      if (plan.ordered) {
        for await (const stored of paced(bounded(snapshot.iterate(plan), limits, query))) {
          documentsRead++;
          const document = new Candidate(stored);
          if (query.matches({ document }) !== true || skip?.(document.id)) continue;
          if (!add(stored, document)) break;
        }
      } else {
        // One more than wanted tells whether there is more.
        const sorted = await this.#sort(query, plan, snapshot, wanted + 1, limits, skip);
        documentsRead = sorted.documentsRead;
        const collection = this.#options.collections.get(query.from)!.number;
        for await (const { id } of paced(sorted.places)) {
          const stored = snapshot.get(collection, id)!;
          if (!add(stored, { data: parseStored(stored.data) })) break;
        }
      }
      return { seq, found: page.found, more: page.more, plan, documentsRead };
    } catch (error) {
      throw asCostly(error);
    } finally {
      this.#pool.release(snapshot);
    }
  }

  /**
   * Lets long reads come to an end, so that the write-ahead log can begin anew, and then runs `whenNoneRuns`. New ones wait
   * meanwhile; those that have run for longer than `graceMs` are broken off.
   */
  interrupt(graceMs: number, whenNoneRuns: () => void): Promise<void> {
    return this.#pool.interrupt(graceMs, whenNoneRuns);
  }
}

/** A result that is filled up to so many documents and bytes. */
class Page {
  readonly found: Found[] = [];
  more = false;
  #bytes = 0;
  readonly #most: number;

  constructor(
    readonly query: Query,
    readonly wanted: number,
    readonly limits: ReadLimits,
  ) {
    this.#most = limits.bytes ?? DEFAULT_READ_BYTES;
  }

  /** Whether there are as many documents as are wanted. */
  get full(): boolean {
    return this.found.length === this.wanted;
  }

  /**
   * Adds a document, unless the page is full; then there is more. A document that is too large for a page of its own is refused.
   *
   * @throws {ProblemError} `query-too-costly`, or `budget-exceeded`
   */
  add(found: Found): boolean {
    this.more = this.full;
    if (this.more) return false;
    const bytes = found.textFor(this.query).length;
    if (this.#bytes + bytes > this.#most) {
      if (this.limits.whole) throw tooManyBytes('The state of this watch', this.#most);
      if (this.found.length === 0)
        throw tooManyBytes(`The document ${found.stored.id} with its related documents`, this.#most);
      this.more = true;
      return false;
    }
    this.limits.onBytes?.(bytes);
    this.#bytes += bytes;
    this.found.push(found);
    return true;
  }
}

/** What is related to one more document of a result. */
function relateNext({ document }: Found, query: Query, relations: StoredRelations): JsonObject {
  relations.next();
  return relatedTo(document, query, relations);
}

/** Passes items on up to a limit of documents, and of work that the query takes meanwhile; then who asked is told so. */
function* bounded<Item>(
  items: Iterable<Item>,
  { documents = Infinity, work = Infinity }: ReadLimits,
  query: Query,
): Generator<Item> {
  const workEnd = query.work.total + work;
  let left = documents;
  for (const item of items) {
    if (query.work.total > workEnd) throw tooMuchWork(work);
    if (left-- === 0) {
      throw problemError(
        'query-too-costly',
        `The query would read more than ${documents} documents. Request less, or create an index.`,
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
