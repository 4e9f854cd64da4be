import type { DocumentLimits } from '@uproar/core';
import type { CommitLimits } from './commit/committer.js';
import type { RetentionLimits, WaitingLimits } from './store/index.js';

/** How a service is started. */
export interface ServiceOptions {
  /** The data directory. */
  directory: string;
  host: string;
  /** 0 takes any free port. */
  port: number;
  /** A key that holds for this process, at least 16 characters. Without it the first start makes one. */
  adminKey?: string | undefined;
  /** Where the built console lies; without it no console is served. */
  consoleDirectory?: string | undefined;
  /** The client as one file; without it none is served at `/client/uproar.js`. */
  clientFile?: string | undefined;
  /** Folders of plain pages to serve beside the rest, by the path they are served at: `/field/`. */
  pages?: Readonly<Record<string, string>>;
  documentLimits?: DocumentLimits;
  commitLimits?: Partial<CommitLimits>;
  /** How much may wait for its turn before more is turned away. */
  waiting?: Partial<WaitingLimits>;
  /** Bytes that may wait for a live connection to read them before its changes are merged. */
  maxUnreadBytes?: number;
  heartbeatMs?: number;
  /** How much of the journal is kept; all of it unless told otherwise. */
  journal?: RetentionLimits;
  logLevel?: 'silent' | 'warn' | 'info' | 'debug';
}

/** The address a store listens at unless told otherwise. */
export const DEFAULT_HOST = '127.0.0.1';
export const DEFAULT_PORT = 4680;

export const DEFAULT_MAX_UNREAD_BYTES = 1024 * 1024;

export { VERSION } from './version.js';
