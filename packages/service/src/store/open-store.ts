import { randomBytes } from 'node:crypto';
import { DEFAULT_DOCUMENT_LIMITS, enableFullQueries } from '@uproar/core';
import type Database from 'better-sqlite3';
import type { WaitingLimits } from '../log/intake.js';
import { LocalLog } from '../log/local-log.js';
import type { LogParts } from '../log/batch-writer.js';
import type { Durability } from '../log/durable-writer.js';
import type { Log, OtherRecord } from '../log/log.js';
import { StateMachine } from '../state/state-machine.js';
import { DEFAULT_COMMIT_RESULT_BYTES, type CommitLimits } from '../state/store-table.js';
import { Backups } from './backups.js';
import { Checkpoints, DEFAULT_WRITE_AHEAD_BYTES } from './checkpoints.js';
import { checkAtStart } from './check-at-start.js';
import { Collections } from './collections.js';
import { Contents } from './contents.js';
import { Documents } from './documents.js';
import { startExpiry } from './expiry.js';
import { FieldNameSamples } from './field-name-samples.js';
import { IdClock } from './id-clock.js';
import { Indexes } from './indexes.js';
import { Journal } from './journal.js';
import { claimDirectory } from './lock.js';
import { startMaintenance } from './maintenance.js';
import { databaseFile, openDatabase, prepareDirectory } from './open-database.js';
import { Reader } from './reader.js';
import { PublishedReads } from './published-reads.js';
import { JournalRetention } from './retention.js';
import { Rewrites } from './rewrites.js';
import { StorageHealth } from './storage-health.js';
import { StoreError } from './store-error.js';
import type { Store, StoreOptions } from './store.js';
import { WriteAheadFile } from './write-ahead-file.js';

/** 10,000 commits, and 64 MiB of them. */
const DEFAULT_WAITING_LIMITS: WaitingLimits = { commits: 10_000, sizeBytes: 64 * 1024 * 1024 };

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
    if (!options.log) checkNotInCluster(database);
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
  const walFile = new WriteAheadFile(file);
  // A process that was killed may have left what it had not synced yet; nothing of it is read before it is on disk.
  walFile.syncNow();
  const reads = new PublishedReads(file);
  const state = new StateMachine(database);
  // Those of a cluster are the same on all nodes.
  const limits = options.log ? state.limits : (options.limits ?? DEFAULT_DOCUMENT_LIMITS);
  const parts: LogParts = {
    database,
    state,
    durability: durabilityOf(walFile, reads),
    health,
    maxWaiting: { ...DEFAULT_WAITING_LIMITS, ...options.waiting },
  };
  const resultBytes = options.resultBytes ?? DEFAULT_COMMIT_RESULT_BYTES;
  const log = options.log ? options.log(parts) : openLocalLog(parts, { ...limits, resultBytes });
  const collections = new Collections(reads);
  log.onBatch((batch) => collections.publish(batch.collections));
  const documents = new Documents(reads);
  const journal = new Journal(reads, collections);
  const indexes = new Indexes({ file, reads, log, state });
  const isInCharge = options.isInCharge ?? (() => true);
  const contents = new Contents({ reads, log, directory, isInCharge, limits: options.files });
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
  const rewrites = new Rewrites({ file, reads, log, reader, checkpoints });
  const stopMaintenance = startMaintenance({
    file,
    checkpoints,
    reader,
    reads,
    log,
    retention,
    health,
    rewrites,
    isInCharge,
  });
  const stopExpiry = startExpiry({ reads, log, collections, health, isInCharge });
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
    rewrites,
    keepJournal: (limits) => retention.keep(limits),
    recover: () => health.recover((bytes) => tryToWrite(log, bytes)),
    close: async () => {
      if (closed) return;
      closed = true;
      stopMaintenance();
      stopExpiry();
      stopCheck();
      contents.close();
      rewrites.close();
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

/** How the log of a store makes its transactions durable and readable. */
function durabilityOf(walFile: WriteAheadFile, reads: PublishedReads): Durability {
  return {
    written: () => reads.prepareNext(),
    sync: (done) => walFile.sync(done),
    syncNow: () => walFile.syncNow(),
    publish: () => reads.publish(),
    release: () => reads.release(),
    resume: () => reads.resume(),
  };
}

/** @throws {StoreError} `in-cluster` */
function checkNotInCluster(database: Database.Database): void {
  if (database.prepare("SELECT 1 FROM local WHERE name = 'cluster'").get() === undefined) return;
  database.close();
  throw new StoreError(
    'in-cluster',
    'This store is part of a cluster. Start it with --cluster, or run "uproar cluster detach" to go on without the others.',
  );
}

function openLocalLog(parts: LogParts, limits: CommitLimits): LocalLog {
  const log = new LocalLog(parts);
  beginLog(log, parts.state, limits);
  return log;
}

/** Begins the log of a new store, and puts the limits of this process in force. */
function beginLog(log: LocalLog, state: StateMachine, limits: CommitLimits): void {
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
async function tryToWrite(log: Log, bytes: number): Promise<void> {
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
