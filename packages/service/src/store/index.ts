import { randomBytes } from 'node:crypto';
import type Database from 'better-sqlite3';
import { DEFAULT_DOCUMENT_LIMITS, enableFullQueries, type DocumentLimits } from '@uproar/core';
import { Backups } from './backups.js';
import { Collections } from './collections.js';
import { Contents, type ContentLimits } from './contents.js';
import { Documents } from './documents.js';
import { IdClock } from './id-clock.js';
import { Indexes } from './indexes.js';
import { Journal } from './journal.js';
import { IdempotencyRecords } from './idempotency-records.js';
import { checkAtStart } from './check-at-start.js';
import { claimDirectory } from './lock.js';
import { databaseFile, openDatabase, prepareDirectory } from './open-database.js';
import { Reader } from './reader.js';
import { FieldNameSamples } from './field-name-samples.js';
import { JournalRetention, type RetentionLimits } from './retention.js';
import { startMaintenance } from './maintenance.js';
import { StorageHealth, storageProblem } from './storage-health.js';
import { SqliteCommitLog, type WaitingLimits } from './sqlite-commit-log.js';

export type { BackupInfo } from './backups.js';
export { checkStore, type CheckReport, type CheckResult } from './check-store.js';
export { databaseFile } from './open-database.js';
export { restoreBackup, type RestoreOptions } from './restore.js';
export { StoreError } from './store-error.js';
export type { AppliedCommit, CommitLog, CommitOrigin, CommitOutcome } from './commit-log.js';
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
export type { WaitingLimits } from './sqlite-commit-log.js';
export { JournalRetention, type RetentionLimits } from './retention.js';

/** 10,000 commits, and 64 MiB of them. */
const DEFAULT_WAITING_LIMITS: WaitingLimits = { commits: 10_000, sizeBytes: 64 * 1024 * 1024 };

/** 64 MiB: what the documents that one commit leaves take in all, each counted for every write to it. */
export const DEFAULT_COMMIT_RESULT_BYTES = 64 * 1024 * 1024;

/** An open store: one data directory, claimed by this process. */
export interface Store {
  /** Names the store; another store has another. */
  readonly id: string;
  readonly directory: string;
  readonly limits: DocumentLimits;
  readonly database: Database.Database;
  readonly collections: Collections;
  readonly documents: Documents;
  readonly journal: Journal;
  readonly indexes: Indexes;
  readonly reader: Reader;
  readonly fieldNames: FieldNameSamples;
  /** Whether related documents are looked up where there is no index for it, by reading a whole collection. */
  readonly scanIncludes: boolean;
  readonly log: SqliteCommitLog;
  /** Whether it can be written to. */
  readonly health: StorageHealth;
  readonly idClock: IdClock;
  readonly contents: Contents;
  readonly backups: Backups;
  /** From now on keeps this much of the journal. */
  keepJournal(limits: RetentionLimits): void;
  close(): void;
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
    const idClock = new IdClock(database);
    const health = new StorageHealth(database);
    const limits = options.limits ?? DEFAULT_DOCUMENT_LIMITS;
    const collections = new Collections(database);
    const documents = new Documents(database);
    const journal = new Journal(database, collections);
    const indexes = new Indexes(database, collections, documents);
    const idempotencyRecords = new IdempotencyRecords(database);
    const contents = new Contents(database, directory, options.files);
    const log = new SqliteCommitLog(
      { database, collections, documents, journal, indexes, idempotencyRecords, contents, health },
      {
        limits,
        maxWaiting: { ...DEFAULT_WAITING_LIMITS, ...options.waiting },
        resultBytes: options.resultBytes ?? DEFAULT_COMMIT_RESULT_BYTES,
      },
    );
    const file = databaseFile(directory);
    const cutter = new JournalRetention(database, journal, options.journal ?? {});
    const reader = new Reader({
      database,
      file,
      collections,
      documents,
      indexes,
      seq: () => log.seq,
      documentBytes: limits.sizeBytes,
      waitMs: options.waitMs,
    });
    const stopCare = startMaintenance({
      file,
      database,
      reader,
      idempotencyRecords,
      cutter,
      health,
    });
    const stopCheck = checkAtStart(file, database, (detail) => health.noteDamage(detail));
    const backups = new Backups(database, directory, contents);
    const close = () => {
      stopCare();
      stopCheck();
      contents.close();
      backups.close();
      reader.close();
      log.close();
      closeQuietly(idClock);
      database.close();
      release();
    };
    return {
      id: storeId(database),
      directory,
      limits,
      database,
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
      keepJournal: (limits) => cutter.keep(limits),
      close,
    };
  } catch (error) {
    release();
    throw error;
  }
}

/** A disk that is full must not keep the store from being closed. */
function closeQuietly(clock: IdClock): void {
  try {
    clock.close();
  } catch (error) {
    if (!storageProblem(error)) throw error;
  }
}

function storeId(database: Database.Database): string {
  database
    .prepare("INSERT INTO store (name, value) VALUES ('id', ?) ON CONFLICT (name) DO NOTHING")
    .run(randomBytes(12).toString('base64url'));
  return database.prepare("SELECT value FROM store WHERE name = 'id'").pluck().get() as string;
}
