import type { LogEntry } from '../state/log-entry.js';

/** A place in the log, and the revision of the log service that holds its entry. */
export interface LogPlace {
  place: number;
  revision: number;
}

/** The log service has entries that this node cannot get any more. It needs a copy of the store of another node. */
export class TooFarBehindError extends Error {
  override name = 'TooFarBehindError';
}

/** The report that a node sends to the others about once a second. */
export interface NodeReport {
  /** The name of the node, from one start to the next. */
  node: string;
  /** Where the other nodes and clients reach it. */
  address: string;
  version: string;
  /** The latest format of records that it reads; versions before the fourth format do not say. */
  format?: number | undefined;
  /** Up to which place erasures have left nothing in its files. */
  rewritten?: number | undefined;
  /** The last entry that it has applied, and the hash over all records up to there. */
  place: number;
  revision: number;
  hash: string;
  seq: number;
  /** Its clock, in milliseconds since 1970. */
  timeMs: number;
  /** Why it cannot write to its disk. */
  storage?: string | undefined;
}

/** Gets what a log service delivers. Entries and reports come in the order in which the service took them. */
export interface LogFollower {
  entry(entry: LogEntry): void;
  /** A report of any node, also of this one. */
  report(report: NodeReport): void;
  /** A node that has not reported for a while, or has left. */
  gone(node: string): void;
  /** Nothing more is delivered. Follow again, from the last place, unless it is a {@link TooFarBehindError}. */
  lost(error: Error): void;
}

/** A service that gives the entries of several nodes one order, and keeps them safe if one machine is lost. */
export interface LogTransport {
  /**
   * Appends an entry behind all others.
   *
   * @returns once a majority of the service has it on disk
   * @throws when that is not sure: the entry may be in the log now or later, or never
   */
  append(bytes: Buffer): Promise<void>;

  /** Delivers the entries after a place, and the reports of nodes. Returns a stop function. */
  follow(after: LogPlace, follower: LogFollower): () => void;

  /** Sends a report to the other nodes. Rejects while the service does not answer. */
  report(report: NodeReport): Promise<void>;

  /** The places of the first and last entry that can be read; `first` is `last + 1` if there are none. */
  bounds(): Promise<{ first: number; last: number }>;

  /** Says that this node has left, and ends the connection. */
  close(): Promise<void>;
}
