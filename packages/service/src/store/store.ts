import type { DocumentLimits } from '@uproar/core';
import type { WaitingLimits } from '../log/intake.js';
import type { LogParts } from '../log/batch-writer.js';
import type { Log } from '../log/log.js';
import type { Backups } from './backups.js';
import type { Checkpoints } from './checkpoints.js';
import type { Collections } from './collections.js';
import type { ContentLimits, Contents } from './contents.js';
import type { Documents } from './documents.js';
import type { FieldNameSamples } from './field-name-samples.js';
import type { IdClock } from './id-clock.js';
import type { Indexes } from './indexes.js';
import type { Journal } from './journal.js';
import type { Reader } from './reader.js';
import type { Reads } from './reads.js';
import type { RetentionLimits } from './retention.js';
import type { Rewrites } from './rewrites.js';
import type { StorageHealth } from './storage-health.js';

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
  readonly log: Log;
  /** Whether it can be written to. */
  readonly health: StorageHealth;
  readonly idClock: IdClock;
  readonly contents: Contents;
  readonly backups: Backups;
  readonly checkpoints: Checkpoints;
  readonly rewrites: Rewrites;
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
  /** Makes the log of a store that is part of a cluster; by default, the store has a log of its own. */
  log?: ((parts: LogParts) => Log) | undefined;
  /** Whether this process cuts the journal and removes what has expired; by default always. In a cluster one node does it. */
  isInCharge?: (() => boolean) | undefined;
}
