import { randomBytes } from 'node:crypto';
import { DEFAULT_DOCUMENT_LIMITS, enableFullQueries, type DocumentLimits } from '@uproar/core';
import type Database from 'better-sqlite3';
import { LocalLog, type WaitingLimits } from '../log/local-log.js';
import type { OtherRecord } from '../log/log.js';
import { StateMachine } from '../state/state-machine.js';
import { DEFAULT_COMMIT_RESULT_BYTES, type CommitLimits } from '../state/store-table.js';
import { Backups } from './backups.js';
import { Checkpoints, DEFAULT_WRITE_AHEAD_BYTES } from './checkpoints.js';
import { checkAtStart } from './check-at-start.js';
import { Collections } from './collections.js';
import { Contents, type ContentLimits } from './contents.js';
import { Documents } from './documents.js';
import { FieldNameSamples } from './field-name-samples.js';
import { IdClock } from './id-clock.js';
import { Indexes } from './indexes.js';
import { Journal } from './journal.js';
import { claimDirectory } from './lock.js';
import { startMaintenance } from './maintenance.js';
import { databaseFile, openDatabase, prepareDirectory } from './open-database.js';
import { Reader } from './reader.js';
import { PublishedReads } from './published-reads.js';
import type { Reads } from './reads.js';
import { JournalRetention, type RetentionLimits } from './retention.js';
import { StorageHealth } from './storage-health.js';
import { WriteAheadFile } from './write-ahead-file.js';

export type { BackupInfo } from './backups.js';
export { checkStore, type CheckReport, type CheckResult } from './check-store.js';
export { databaseFile } from './open-database.js';
export { restoreBackup, type RestoreOptions } from './restore.js';
export { StoreError } from './store-error.js';
export type { CommitOrigin, Log } from '../log/log.js';
export type { AppliedCommit, CommitOutcome } from '../state/outcomes.js';
export { DEFAULT_COMMIT_RESULT_BYTES } from '../state/store-table.js';
export type { Reads } from './reads.js';
export type { CollectionInfo } from './collections.js';
export { readStored, stringifyStored, type StoredDocument } from './documents.js';
export type { IndexInfo } from './indexes.js';
export type { JournalChange, JournalEntry } from './journal.js';
export { adviseIndex, type Plan } from './plan.js';
export { type Found, type Reading, type ReadLimits, type ReadOutcome } from './found.js';
export { adviseIncludeIndex, checkIncludes, indexFor, StoredRelations } from './stored-relations.js';
export { summarize, summarizeAtOnce, type Summarized } from './summarize.js';
export { changesAfter, fewChangesAfter, findStored } from './find.js';
export { FILES, type ContentLimits, type Received } from './contents.js';
export { storageProblem, type StorageHealth } from './storage-health.js';
export type { WaitingLimits } from '../log/local-log.js';
export { JournalRetention, type RetentionLimits } from './retention.js';

/** 10,000 commits, and 64 MiB of them. */
const DEFAULT_WAITING_LIMITS: WaitingLimits = { commits: 10_000, sizeBytes: 64 * 1024 * 1024 };

/** An open store: one data directory, claimed by this process. */
export interface Store {
  /** Names the store; another store has another. */
  readonly id: string;
  readonly directory: string;
  readonly limits: DocumentLimits;
  /** Reads its tables. */
  readonly reads: Reads;
  readonly collections: Collections;
  readonly documents: Documents;
  readonly journal: Journal;
  readonly indexes: Indexes;
  readonly reader: Reader;
  readonly fieldNames: FieldNameSamples;
  /** Whether related documents are looked up where there is no index for it, by reading a whole collection. */
  readonly scanIncludes: boolean;
  /** Everything that changes it passes this log. */
  readonly log: LocalLog;
  /** Whether it can be written to. */
  readonly health: StorageHealth;
  readonly idClock: IdClock;
  readonly contents: Contents;
  readonly backups: Backups;
  readonly checkpoints: Checkpoints;
  /** Whether it can be written to again after a failure. */
  recover(): Promise<boolean>;
  /** From now on keeps this much of the journal. */
  keepJournal(limits: RetentionLimits): void;
  /** Closes it at once. Resolves when its threads have ended, too. */
  close(): Promise<void>;
}

/** How a store is opened. */
export interface StoreOptions {
  limits?: DocumentLimits;
  /** How much may wait for its turn before more is turned away. */
  waiting?: Partial<WaitingLimits>;
  /** How long a long read waits for its turn, in milliseconds. */
  waitMs?: number | undefined;
  /** The most bytes that the documents a commit leaves may take in all. */
  resultBytes?: number | undefined;
  /** How much of the journal is kept; by default all of it. */
  journal?: RetentionLimits;
  /** The size of the write-ahead log at which it is moved into the store file, in bytes; by default 16 MiB. */
  writeAheadBytes?: number | undefined;
  /** Whether includes may use full scans if there is no index; by default not. */
  scanIncludes?: boolean;
  /** How files are taken and kept. */
  files?: Partial<ContentLimits> | undefined;
}

/**
 * Opens the store in a data directory, and creates both if they do not exist.
 *
 * @throws {StoreError} with advice
 */
export function openStore(directory: string, options: StoreOptions = {}): Store {
  enableFullQueries();
  prepareDirectory(directory);
  const release = claimDirectory(directory);
  try {
    const database = openDatabase(directory);
    const store = createStore(database, directory, options, release);
    CONNECTIONS.set(store, database);
    return store;
  } catch (error) {
    release();
    throw error;
  }
}

const CONNECTIONS = new WeakMap<Store, Database.Database>();

/** The connection that a store writes with, so that tests can make its disk fail. Everything else uses the log. */
export function connectionOf(store: Store): Database.Database {
  return CONNECTIONS.get(store)!;
}

function createStore(
  database: Database.Database,
  directory: string,
  options: StoreOptions,
  release: () => void,
): Store {
  const file = databaseFile(directory);
  const health = new StorageHealth();
  const stopCheck = checkAtStart(file, database, (detail) => health.noteDamage(detail));
  const limits = options.limits ?? DEFAULT_DOCUMENT_LIMITS;
  const walFile = new WriteAheadFile(file);
  // A process that was killed may have left what it had not synced yet; nothing of it is read before it is on disk.
  walFile.syncNow();
  const reads = new PublishedReads(file);
  const state = new StateMachine(database);
  const durability = {
    written: () => reads.prepareNext(),
    sync: (done: (error: Error | null) => void) => walFile.sync(done),
    syncNow: () => walFile.syncNow(),
    publish: () => reads.publish(),
    release: () => reads.release(),
    resume: () => reads.resume(),
  };
  const log = new LocalLog(database, state, durability, health, { ...DEFAULT_WAITING_LIMITS, ...options.waiting });
  found(log, state, { ...limits, resultBytes: options.resultBytes ?? DEFAULT_COMMIT_RESULT_BYTES });
  const collections = new Collections(reads);
  log.onBatch((batch) => collections.publish(batch.collections));
  const documents = new Documents(reads);
  const journal = new Journal(reads, collections);
  const indexes = new Indexes({ file, reads, log, state });
  const contents = new Contents(reads, log, directory, options.files);
  const retention = new JournalRetention(reads, log, journal, options.journal ?? {});
  const idClock = new IdClock(reads, log);
  const reader = new Reader({
    reads,
    file,
    collections,
    documents,
    indexes,
    seq: () => log.seq,
    whenDurable: (work) => log.whenDurable(work),
    documentBytes: limits.sizeBytes,
    waitMs: options.waitMs,
  });
  const checkpoints = new Checkpoints({
    file,
    log: walFile,
    health,
    sizeBytes: options.writeAheadBytes ?? DEFAULT_WRITE_AHEAD_BYTES,
    pause: (work) => log.pause(work),
  });
  const stopMaintenance = startMaintenance({ file, checkpoints, reader, reads, log, retention, health });
  const backups = new Backups(log, directory);
  indexes.continueFilling();
  // A folder that cannot be read is reported by "uproar check".
  contents.removeOrphans().catch(() => undefined);
  let closed = false;
  return {
    id: reads.values<[], string>("SELECT value FROM store WHERE name = 'id'").get()!,
    directory,
    limits,
    reads,
    collections,
    documents,
    journal,
    indexes,
    reader,
    fieldNames: new FieldNameSamples(collections, reader),
    scanIncludes: options.scanIncludes ?? false,
    contents,
    log,
    health,
    idClock,
    backups,
    checkpoints,
    keepJournal: (limits) => retention.keep(limits),
    recover: () => health.recover((bytes) => tryToWrite(log, bytes)),
    close: async () => {
      if (closed) return;
      closed = true;
      stopMaintenance();
      stopCheck();
      contents.close();
      const threads = [indexes.close(), backups.close(), checkpoints.close()];
      reader.close();
      idClock.close();
      log.close();
      reads.close();
      walFile.close();
      database.close();
      release();
      await Promise.all(threads);
    },
  };
}

/** Begins the log of a new store, and puts the limits of this process in force. */
function found(log: LocalLog, state: StateMachine, limits: CommitLimits): void {
  const timeMs = Date.now();
  const records: OtherRecord[] = [];
  if (state.position.generation === '') {
    const [id, generation] = [randomName(), randomName()];
    records.push({ kind: 'store', timeMs, id, generation, linkSecret: randomBytes(32).toString('base64url') });
  }
  const { sizeBytes, depth, resultBytes } = state.limits;
  if (sizeBytes !== limits.sizeBytes || depth !== limits.depth || resultBytes !== limits.resultBytes) {
    records.push({ kind: 'limits', timeMs, ...limits });
  }
  if (records.length > 0) log.applyAtStart(records);
}

function randomName(): string {
  return randomBytes(12).toString('base64url');
}

/** Writes this many bytes, and removes them again. */
async function tryToWrite(log: LocalLog, bytes: number): Promise<void> {
  const text = 'x'.repeat(bytes);
  await log.writeLocally((database) =>
    database
      .prepare(
        "INSERT INTO local (name, value) VALUES ('trial', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
      )
      .run(text),
  );
  await log.writeLocally((database) => database.prepare("DELETE FROM local WHERE name = 'trial'").run());
}
