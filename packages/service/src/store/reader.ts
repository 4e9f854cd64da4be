import { type Query, WorkLimitError } from '@uproar/core';
import type { Collections } from './collections.js';
import { fromRow, type CandidateRow, type Documents, type StoredContent, type StoredDocument } from './documents.js';
import type { IndexInfo, Indexes } from './indexes.js';
import { Candidate, Found, type Reading, type ReadLimits, type ReadOutcome } from './found.js';
import { planQuery, type Plan } from './plan.js';
import { bounded, Page, inSlices, relateNext } from './read-page.js';
import type { Reads, ReadStatement } from './reads.js';
import { Snapshot } from './snapshot.js';
import { SortedRows, type Place } from './sorted-rows.js';
import { SnapshotPool } from './snapshot-pool.js';
import { StoredRelations, type Rows } from './stored-relations.js';
import { asLimitProblem } from '../limits/costs.js';

/** What reading works with. */
export interface ReaderOptions {
  reads: Reads;
  file: string;
  collections: Collections;
  documents: Documents;
  indexes: Indexes;
  seq: () => number;
  /** Runs `work` when everything that was written is on disk. */
  whenDurable<Result>(work: () => Result): Promise<Result>;
  /** The most bytes of one document. */
  documentBytes: number;
  /** How long a long read waits for its turn, in milliseconds. */
  waitMs?: number | undefined;
}

/** Queries with an index that gives their order are answered at once, unless they read more than this. */
const MAX_READ_AT_ONCE = 2000;

/** Queries whose includes look up more documents than this are answered with pauses. */
const RELATED_AT_ONCE = 1000;

/** Queries whose conditions take more steps than this are answered with pauses. */
const WORK_AT_ONCE = 1_000_000;

/** Rows that can take more than this are read one by one, so that reading can stop. */
const ROWS_AT_ONCE_BYTES = 32 * 1024 * 1024;

/** A stream with includes may look up this many bytes for each of its documents. */
const STREAMED_RELATED_BYTES = 16 * 1024 * 1024;

/** Matching documents that are skipped, because their earlier state is used instead. */
type Skip = (id: string) => boolean;

/** Whether a candidate matches; the index may have decided that. */
function isMatch(query: Query, plan: Plan, document: Candidate): boolean {
  return plan.decided || query.matches({ document }) === true;
}

/**
 * Answers queries: SQL finds and orders the candidates, the condition decides on each. Long reads run on a connection of
 * their own, whose view of the store does not move, and pause again and again.
 */
export class Reader {
  readonly #options: ReaderOptions;
  readonly #plans = new WeakMap<Query, { plan: Plan; indexes: readonly IndexInfo[] }>();
  readonly #pool: SnapshotPool;
  /** Called for every query that was read, with its cost and duration in milliseconds. */
  onRead: (query: Query, outcome: ReadOutcome, durationMs: number, limits: ReadLimits) => void = () => undefined;

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
    this.#noteReading(query, reading, started, limits);
    return reading;
  }

  /** As {@link read}, where that is possible without pausing; otherwise undefined. */
  readAtOnce(query: Query, wanted: number, limits: ReadLimits = {}): Reading | undefined {
    const started = performance.now();
    const reading = this.#readAtOnce(query, wanted, limits);
    if (reading) this.#noteReading(query, reading, started, limits);
    return reading;
  }

  #noteReading(query: Query, { plan, documentsRead, found }: Reading, started: number, limits: ReadLimits): void {
    this.onRead(query, { plan, documentsRead, documentsReturned: found.length }, performance.now() - started, limits);
  }

  #readAtOnce(query: Query, wanted: number, limits: ReadLimits, skip?: Skip): Reading | undefined {
    const seq = this.#options.seq();
    const plan = this.plan(query);
    if (!plan) return { seq, found: [], more: false, plan, documentsRead: 0 };
    if (!plan.ordered || wanted > MAX_READ_AT_ONCE) return undefined;
    query.work.limitTo(WORK_AT_ONCE);
    try {
      // Mostly SQL has narrowed the candidates down to the result, so that as many as are wanted are all it takes.
      const first = this.#candidates(`${plan.sql} LIMIT ${wanted + 1}`);
      const rows =
        this.#mayTake(query, wanted + 1) > ROWS_AT_ONCE_BYTES
          ? first.iterate(...plan.parameters)
          : first.all(...plan.parameters);
      const some = this.#choose(query, plan, seq, rows, wanted, limits, skip);
      if (!some || some.documentsRead <= wanted || some.more) return some;
      const all = this.#candidates(`${plan.sql} LIMIT ${MAX_READ_AT_ONCE + 1}`).iterate(...plan.parameters);
      const reading = this.#choose(query, plan, seq, all, wanted, limits, skip);
      return reading && reading.documentsRead > MAX_READ_AT_ONCE ? undefined : reading;
    } catch (error) {
      // Work that exceeds the limit for one pass may still be within the limit for one document.
      if (error instanceof WorkLimitError) return undefined;
      throw error;
    } finally {
      query.work.limitTo(Infinity);
    }
  }

  /** The maximum bytes of this many documents of a collection. */
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

  #statement(sql: string): ReadStatement<unknown[], StoredDocument> {
    return this.#options.reads.statement(sql);
  }

  #candidates(sql: string): ReadStatement<unknown[], CandidateRow> {
    return this.#options.reads.rows(sql);
  }

  /**
   * The first matching documents among ordered candidates, with their related documents. Undefined if that takes too
   * much work without a pause.
   */
  #choose(
    query: Query,
    plan: Plan,
    seq: number,
    rows: Iterable<CandidateRow>,
    wanted: number,
    limits: ReadLimits,
    skip?: Skip,
  ): Reading | undefined {
    const page = new Page(query, wanted, limits);
    const relations =
      query.includes.length > 0 ? new StoredRelations(this.#options, this.rows, true, limits) : undefined;
    let documentsRead = 0;
    for (const row of rows) {
      documentsRead++;
      const document = new Candidate(fromRow(row));
      if (!isMatch(query, plan, document) || skip?.(document.id)) continue;
      const found = new Found(document);
      if (relations && !page.full) found.related = relateNext(found, query, relations);
      if (relations && relations.looked > RELATED_AT_ONCE) return undefined;
      if (!page.add(found)) break;
    }
    return { seq, found: page.found, more: page.more, plan, documentsRead };
  }

  /** All documents of a query one after the other, at one state of the store, in bounded memory. */
  async *stream(query: Query, limits: ReadLimits = {}, onSeq?: (seq: number) => void): AsyncGenerator<Found> {
    for await (const slice of this.streamInSlices(query, limits, onSeq)) yield* slice;
  }

  /** Like {@link stream}, in slices between which others are served: for a reader that does not wait in between. */
  async *streamInSlices(
    query: Query,
    limits: ReadLimits = {},
    onSeq?: (seq: number) => void,
  ): AsyncGenerator<Iterable<Found>> {
    const plan = this.plan(query);
    const snapshot = await this.#pool.take(limits.holder);
    let spentMs = 0;
    let documentsReturned = 0;
    let resumedMs = performance.now();
    /** Counts what is returned. The time that the reader takes is not counted. */
    function* counted(slice: Iterable<Found>, relations: StoredRelations | undefined) {
      for (const found of slice) {
        if (relations) found.related = relateNext(found, query, relations);
        spentMs += performance.now() - resumedMs;
        documentsReturned++;
        yield found;
        resumedMs = performance.now();
      }
    }
    try {
      const seq = await this.#options.whenDurable(() => snapshot.begin());
      onSeq?.(seq);
      if (!plan) return;
      const stream = plan.ordered ? this.#streamOrdered : this.#streamSorted;
      const related = { ...limits, bytes: STREAMED_RELATED_BYTES };
      const relations =
        query.includes.length > 0 ? new StoredRelations(this.#options, snapshot, true, related) : undefined;
      relations?.continueReading();
      resumedMs = performance.now();
      for await (const slice of stream.call(this, query, plan, snapshot, limits)) yield counted(slice, relations);
    } catch (error) {
      throw asLimitProblem(error);
    } finally {
      this.onRead(query, { plan, documentsRead: null, documentsReturned }, spentMs, limits);
      this.#pool.release(snapshot);
    }
  }

  close(): void {
    this.#pool.close();
  }

  async *#streamOrdered(
    query: Query,
    plan: Plan,
    snapshot: Snapshot,
    limits: ReadLimits,
  ): AsyncGenerator<Iterable<Found>> {
    let left = query.limit ?? Number.POSITIVE_INFINITY;
    function* matching(slice: Iterable<StoredContent>) {
      for (const stored of slice) {
        const document = new Candidate(stored);
        if (!isMatch(query, plan, document)) continue;
        if (left-- === 0) return;
        yield new Found(document);
      }
    }
    for await (const slice of inSlices(bounded(snapshot.iterate(plan), limits, query))) {
      yield matching(slice);
      if (left < 0) return;
    }
  }

  /** Sorts by what the order looks at alone. Documents that would take too much memory meanwhile are read again. */
  async *#streamSorted(
    query: Query,
    plan: Plan,
    snapshot: Snapshot,
    limits: ReadLimits,
  ): AsyncGenerator<Iterable<Found>> {
    const { places } = await this.#sort(query, plan, snapshot, query.limit ?? Infinity, limits);
    const collection = this.#options.collections.get(query.from)!.number;
    function* documents(slice: Iterable<Place>) {
      for (const { id, stored } of slice) yield new Found(new Candidate(stored ?? snapshot.get(collection, id)!));
    }
    for await (const slice of inSlices(places)) yield documents(slice);
  }

  /** The first places of a query whose candidates do not come in its order, and how many documents were read for them. */
  async #sort(query: Query, plan: Plan, snapshot: Snapshot, wanted: number, limits: ReadLimits, skip?: Skip) {
    const places = new SortedRows(query, wanted);
    let documentsRead = 0;
    for await (const slice of inSlices(bounded(snapshot.iterate(plan), limits, query))) {
      for (const stored of slice) {
        documentsRead++;
        const document = new Candidate(stored);
        if (isMatch(query, plan, document) && !skip?.(document.id)) places.add(document);
      }
    }
    return { places: places.take(), documentsRead };
  }

  async #readSlowly(query: Query, wanted: number, limits: ReadLimits, skip?: Skip): Promise<Reading> {
    const plan = this.plan(query)!;
    const snapshot = await this.#pool.take(limits.holder);
    try {
      const seq = await this.#options.whenDurable(() => snapshot.begin());
      const page = new Page(query, wanted, limits);
      const relations =
        query.includes.length > 0 ? new StoredRelations(this.#options, snapshot, true, limits) : undefined;
      let documentsRead = 0;
      const add = (document: Candidate) => {
        const found = new Found(document);
        if (relations && !page.full) found.related = relateNext(found, query, relations);
        return page.add(found);
      };
      if (plan.ordered) {
        reading: for await (const slice of inSlices(bounded(snapshot.iterate(plan), limits, query))) {
          for (const stored of slice) {
            documentsRead++;
            const document = new Candidate(stored);
            if (!isMatch(query, plan, document) || skip?.(document.id)) continue;
            if (!add(document)) break reading;
          }
        }
      } else {
        // One more than wanted shows whether there are more.
        const sorted = await this.#sort(query, plan, snapshot, wanted + 1, limits, skip);
        documentsRead = sorted.documentsRead;
        const collection = this.#options.collections.get(query.from)!.number;
        reading: for await (const slice of inSlices(sorted.places)) {
          for (const { id, stored } of slice) {
            if (!add(new Candidate(stored ?? snapshot.get(collection, id)!))) break reading;
          }
        }
      }
      return { seq, found: page.found, more: page.more, plan, documentsRead };
    } catch (error) {
      throw asLimitProblem(error);
    } finally {
      this.#pool.release(snapshot);
    }
  }

  /**
   * Lets long reads finish, so that the write-ahead log can be reset, and then calls `whenNoneRuns`. New reads wait;
   * reads that have run longer than `graceMs` are aborted.
   */
  interrupt(graceMs: number, whenNoneRuns: () => Promise<unknown>): Promise<void> {
    return this.#pool.interrupt(graceMs, whenNoneRuns);
  }
}
