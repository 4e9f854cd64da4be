import type Database from 'better-sqlite3';
import type { DocumentLimits } from '@uproar/core';
import { problemError, type ProblemError } from '@uproar/protocol';
import { AccountTable } from './account-table.js';
import { BlobTable } from './blob-table.js';
import { compileSchema } from './compile-schema.js';
import { CollectionTable, type CollectionInfo } from './collection-table.js';
import { CommitApplier } from './commit-applier.js';
import { DocumentEraser } from './document-eraser.js';
import { DocumentTable } from './document-table.js';
import { ErasureTable } from './erasure-table.js';
import { HoldTable } from './hold-table.js';
import { HookTable } from './hook-table.js';
import { IdempotencyTable } from './idempotency-table.js';
import { IndexTable, type IndexEntry } from './index-table.js';
import { JournalTable } from './journal-table.js';
import { KeyTable } from './key-table.js';
import { decodeParts, readEntry, type EntryHeader, type LogEntry } from './log-entry.js';
import { StoreTable } from './store-table.js';
import { LogPositionTable, type LogPosition } from './log-position.js';
import type { AppliedCommit, CommitOutcome, OutcomeOf, Outcomes } from './outcomes.js';
import { PolicyTable } from './policy-table.js';
import { ProducerTable } from './producer-table.js';
import type { LogRecord, RecordOf, SetupStep } from './records.js';
import { refusalOf } from './refuse.js';
import { SchemaTable } from './schema-table.js';
import { SessionTable } from './session-table.js';
import { UsageTable } from './usage-table.js';

/** What a batch of records did. */
export interface AppliedBatch {
  /** Its place in the log. */
  place: number;
  /** The seq of the store after it. */
  seq: number;
  records: readonly LogRecord[];
  /** One for each record, in order. */
  outcomes: readonly Outcomes[keyof Outcomes][];
  /** The commits that were applied. */
  commits: readonly AppliedCommit[];
  /** The collections that it changed, as they are after it. */
  collections: readonly CollectionInfo[];
}

/**
 * Applies the records of the log to the tables of the store. The outcome depends on the state and the record alone: no
 * clock, no random values, no files, no environment and no settings. So the same records lead to the same state anywhere.
 *
 * The caller opens the transaction: {@link apply} for each record, then {@link finish}; or {@link applyEntry}. If the
 * transaction was rolled back: {@link reload}.
 */
export class StateMachine {
  readonly #accounts: AccountTable;
  readonly #blobs: BlobTable;
  readonly #collections: CollectionTable;
  readonly #commits: CommitApplier;
  readonly #eraser: DocumentEraser;
  readonly #erasures: ErasureTable;
  readonly #holds: HoldTable;
  readonly #hooks: HookTable;
  readonly #idempotency: IdempotencyTable;
  readonly #indexes: IndexTable;
  readonly #journal: JournalTable;
  readonly #keys: KeyTable;
  readonly #store: StoreTable;
  readonly #policies: PolicyTable;
  readonly #position: LogPositionTable;
  readonly #producers: ProducerTable;
  readonly #schemas: SchemaTable;
  readonly #sessions: SessionTable;
  readonly #usage: UsageTable;
  #records: LogRecord[] = [];
  #outcomes: Outcomes[keyof Outcomes][] = [];

  constructor(database: Database.Database) {
    this.#collections = new CollectionTable(database);
    this.#indexes = new IndexTable(database, this.#collections);
    this.#journal = new JournalTable(database);
    this.#holds = new HoldTable(database);
    this.#hooks = new HookTable(database);
    this.#idempotency = new IdempotencyTable(database);
    this.#blobs = new BlobTable(database);
    this.#keys = new KeyTable(database);
    this.#accounts = new AccountTable(database);
    this.#sessions = new SessionTable(database, this.#accounts);
    this.#policies = new PolicyTable(database);
    this.#schemas = new SchemaTable(database);
    this.#store = new StoreTable(database);
    this.#position = new LogPositionTable(database);
    this.#producers = new ProducerTable(database);
    this.#usage = new UsageTable(database, this.#collections);
    this.#erasures = new ErasureTable(database);
    const tables = {
      collections: this.#collections,
      documents: new DocumentTable(database),
      journal: this.#journal,
      indexes: this.#indexes,
      idempotency: this.#idempotency,
      blobs: this.#blobs,
      holds: this.#holds,
    };
    this.#eraser = new DocumentEraser(tables, this.#erasures);
    this.#commits = new CommitApplier({
      ...tables,
      policies: this.#policies,
      schemas: this.#schemas,
      store: this.#store,
    });
  }

  get seq(): number {
    return this.#journal.seq;
  }

  get position(): Readonly<LogPosition> {
    return this.#position.current;
  }

  /** The limits that commits are evaluated with. */
  get limits(): DocumentLimits & { resultBytes: number } {
    return this.#store.current;
  }

  /** Applies a record and returns its outcome. */
  apply<Proposed extends LogRecord>(record: Proposed): OutcomeOf<Proposed> {
    const outcome = this.#applyOne(record);
    this.#records.push(record);
    this.#outcomes.push(outcome);
    return outcome as OutcomeOf<Proposed>;
  }

  /**
   * Applies the next entry of a log that several nodes share. An entry that does not count takes its place with an empty
   * batch.
   *
   * @throws {RangeError} when it is not the next one, or has a form that this version does not know
   */
  applyEntry({ place, revision, bytes }: LogEntry): { batch: AppliedBatch; header: EntryHeader; counted: boolean } {
    const next = this.#position.current.place + 1;
    if (place !== next) throw new RangeError(`The next entry of the log is ${next}, not ${place}.`);
    const { header, body } = readEntry(bytes);
    const parts = this.#producers.take(header, body, place);
    if (parts) for (const record of decodeParts(parts)) this.apply(record);
    return { batch: this.finish(revision), header, counted: parts !== undefined };
  }

  /**
   * Ends a batch: writes the changed collections, the size of the journal, and the position in the log.
   *
   * @param revision that of the entry, in a log that several nodes share
   */
  finish(revision?: number): AppliedBatch {
    const collections = this.#collections.write();
    this.#journal.write();
    this.#position.advance(this.#records, revision);
    const batch = {
      place: this.#position.current.place,
      seq: this.#journal.seq,
      records: this.#records,
      outcomes: this.#outcomes,
      commits: this.#outcomes.flatMap((outcome) => ('applied' in outcome ? (outcome.applied ?? []) : [])),
      collections,
    };
    this.#records = [];
    this.#outcomes = [];
    return batch;
  }

  /** Reads the state on disk again, after a failed transaction. */
  reload(): void {
    this.#records = [];
    this.#outcomes = [];
    this.#commits.forget();
    for (const table of [
      this.#position,
      this.#collections,
      this.#journal,
      this.#indexes,
      this.#holds,
      this.#policies,
      this.#schemas,
      this.#store,
      this.#usage,
    ]) {
      table.reload();
    }
  }

  /** Adds entries to an index that is being filled. They follow from the documents, so no record is needed. */
  fillIndex(number: number, entries: readonly IndexEntry[]): void {
    this.#indexes.fill(number, entries);
  }

  /** Marks an index as filled, on this node. */
  setIndexReady(number: number): void {
    this.#indexes.setReady(number);
  }

  #applyOne(record: LogRecord): Outcomes[keyof Outcomes] {
    if (record.kind === 'commit') return this.#commit(record);
    // The ids of a store say nothing about the time of its data.
    const timeMs = record.kind === 'store' ? record.timeMs : this.#position.clamp(record.timeMs);
    switch (record.kind) {
      case 'store':
        this.#position.begin(record.generation);
        return { id: this.#store.begin(record) };
      case 'limits':
        this.#store.set(record);
        return {};
      case 'policy':
        return this.#policies.set(record, timeMs);
      case 'schema':
        return this.#schemas.set(record, timeMs);
      case 'schema-removed':
        return { removed: this.#schemas.remove(record.collection) };
      case 'hook-created':
        return this.#hooks.create(record, timeMs, this.#journal.seq);
      case 'hook-changed':
        return this.#hooks.change(record, timeMs);
      case 'hook-rotated':
        return this.#hooks.rotate(record);
      case 'hook-removed':
        return this.#hooks.remove(record.id);
      case 'hook-progress':
        this.#hooks.setProgress(record);
        return {};
      case 'setup':
        return this.#applySetup(record);
      case 'index-created':
        return this.#indexes.create(record.collection, record.fields, timeMs);
      case 'index-removed':
        return { found: this.#indexes.remove(record.number) };
      case 'usage':
        this.#usage.add(record, timeMs);
        return {};
      case 'erasure-begun':
        this.#erasures.begin(record, timeMs, this.#position.current.place + 1);
        return {};
      case 'documents-erased': {
        const outcome = this.#eraser.erase(record, timeMs, this.#position.current.place + 1);
        this.#commits.forget();
        return outcome;
      }
      case 'idempotency-erased':
        return { more: this.#eraseOutcomes(record) };
      case 'backup-made':
        this.#erasures.addBackup(record, timeMs);
        return {};
      case 'blob-received':
        this.#blobs.receive(record.sha256, record.sizeBytes, timeMs, this.#position.current.place + 1);
        return {};
      case 'blobs-removed': {
        const gone = record.blobs.filter(({ sha256, received }) => this.#blobs.remove(sha256, received));
        return { removed: gone.map(({ sha256 }) => sha256) };
      }
      case 'journal-truncated':
        this.#journal.truncate(record.seq);
        return {};
      case 'journal-swept':
        return { more: this.#journal.sweep(record.changes) };
      case 'idempotency-expired':
        return { more: this.#idempotency.expire(record.beforeMs, record.limit) };
      default:
        return this.#guarded(record, timeMs);
    }
  }

  /** Returns whether there are more idempotency records to look at. */
  #eraseOutcomes({ erasure, collection, limit }: RecordOf<'idempotency-erased'>): boolean {
    const after = this.#erasures.get(erasure)?.outcomesUpTo;
    const number = this.#collections.get(collection)?.number;
    if (!after) return false;
    const isErased = (seq: number) => number !== undefined && this.#journal.hasErased(number, seq);
    const upTo = this.#idempotency.erase(collection, isErased, this.#journal.firstSeq, after, limit);
    this.#erasures.noteLooked(erasure, upTo, this.#position.current.place + 1);
    return upTo !== undefined;
  }

  /** Applies all steps of a set-up, or none. */
  #applySetup({ steps, timeMs }: RecordOf<'setup'>): Outcomes['setup'] {
    let created = 0;
    for (const step of steps) {
      const problem = this.#findFault(step, created);
      if (problem) return { problem };
      if (step.kind === 'hook-created') created++;
    }
    for (const step of steps) this.#applyOne({ ...step, timeMs });
    return {};
  }

  /** Why a step of a set-up would be refused. */
  #findFault(step: SetupStep, created: number): ProblemError | undefined {
    const found = refusalOf(() => {
      if (step.kind === 'policy') this.#policies.check(step);
      else if (step.kind === 'schema') compileSchema(step.schema);
      else if (step.kind.startsWith('hook-'))
        this.#hooks.check(step as RecordOf<'hook-created' | 'hook-changed'>, created);
      return undefined;
    });
    return found?.problem;
  }

  /** Refuses a record whose id or secret another one has, instead of failing its whole batch. */
  #guarded(record: IdentityRecord, timeMs: number): Outcomes[IdentityRecord['kind']] {
    try {
      return this.#applyIdentity(record, timeMs);
    } catch (error) {
      if (!String((error as { code?: unknown }).code).startsWith('SQLITE_CONSTRAINT')) throw error;
      return { problem: problemError('bad-request', 'Another one with the same id or secret exists.') };
    }
  }

  #applyIdentity(record: IdentityRecord, timeMs: number): Outcomes[IdentityRecord['kind']] {
    switch (record.kind) {
      case 'key-created':
        return this.#keys.create(record, timeMs);
      case 'key-rotated':
        return this.#keys.rotate(record);
      case 'key-revoked':
        return this.#keys.revoke(record.id);
      case 'account-created':
        return this.#accounts.create(record, timeMs);
      case 'account-changed': {
        const outcome = this.#accounts.change(record, timeMs);
        const except = record.endSessionsExcept;
        if (except !== undefined && 'found' in outcome) this.#sessions.endAll(record.id, except);
        return outcome;
      }
      case 'account-removed':
        return this.#accounts.remove(record.id);
      case 'guests-removed':
        return this.#accounts.removeGuests();
      case 'session-started':
        return this.#sessions.start(record, timeMs);
      case 'session-used':
        this.#sessions.use(record.access);
        return {};
      case 'session-refreshed':
        return this.#sessions.refresh(record, timeMs);
      case 'session-ended':
        this.#sessions.end(record.id);
        return {};
    }
  }

  #commit({ commit }: RecordOf<'commit'>): CommitOutcome {
    const timeMs = this.#position.clamp(commit.timeMs);
    return this.#commits.apply(timeMs === commit.timeMs ? commit : { ...commit, timeMs });
  }
}

type IdentityRecord = Extract<
  LogRecord,
  { kind: `key-${string}` | `account-${string}` | `session-${string}` | 'guests-removed' }
>;
