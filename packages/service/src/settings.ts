import type { DocumentLimits } from '@uproar/core';
import type { BudgetLimits } from './limits/limits.js';
import type { ClusterOptions } from './cluster/cluster.js';
import type { CommitLimits } from './commit/committer.js';
import type { ConnectionLimits } from './connections/connection-registry.js';
import type { AccountsMode } from './identity/identities.js';
import type { RateLimits } from './identity/rate-limits.js';
import type { TokenSettings } from './identity/tokens.js';
import type { UsageSettings } from './usage/usage-recorder.js';
import type { ContentLimits, RetentionLimits, WaitingLimits } from './store/index.js';

/** How much is logged; each level includes those before it. */
export const LOG_LEVELS = ['silent', 'error', 'warn', 'info', 'debug'] as const;
export type LogLevel = (typeof LOG_LEVELS)[number];

/** Where the lines of the log go. */
export interface LogStream {
  write(line: string): void;
}

/** How a service is started. */
export interface ServiceOptions {
  /** The data directory. */
  directory: string;
  host: string;
  /** 0 takes any free port. */
  port: number;
  /** How this node takes part in a cluster; by default, the store is on one node. */
  cluster?: ClusterOptions | undefined;
  /** Called when this node cannot take part in its cluster any more; by default, the service closes. */
  onHalt?: ((error: Error) => void) | undefined;
  /** A key that holds for this process, at least 16 characters. Without it the first start makes one. */
  adminKey?: string | undefined;
  /** Where the built console lies; without it no console is served. */
  consoleDirectory?: string | undefined;
  /** The client as one file; without it none is served at `/client/uproar.js`. */
  clientFile?: string | undefined;
  /** Where the pages of the documentation lie; without it none are served at `/docs/`. */
  docsDirectory?: string;
  /** Folders of plain pages to serve beside the rest, by the path they are served at: `/field/`. */
  pages?: Readonly<Record<string, string>>;
  documentLimits?: DocumentLimits;
  commitLimits?: Partial<CommitLimits>;
  /** How much may wait for its turn before more is turned away. */
  waiting?: Partial<WaitingLimits>;
  /** Bytes that may wait for a live connection to read them before its changes are merged. */
  maxUnreadBytes?: number;
  heartbeatMs?: number;
  /** How much of the journal is kept; by default all of it. */
  journal?: RetentionLimits;
  /** The size of the write-ahead log at which it is moved into the store file, in bytes; by default 16 MiB. */
  writeAheadBytes?: number | undefined;
  /** Whether includes may use full scans if there is no index; by default not. */
  scanIncludes?: boolean;
  /** How files are taken and kept. */
  files?: Partial<ContentLimits>;
  /** How long a document stays that lives as long as a connection, after that has ended, in milliseconds; by default 10 s. */
  presenceGraceMs?: number | undefined;
  /** How what each identity uses is recorded. */
  usage?: UsageSettings;
  /** Where hooks may deliver, and when they are paused. */
  hooks?: HookSettings;
  /** How tokens of an identity provider are verified; without it none are taken. */
  tokens?: TokenSettings | undefined;
  /** Whether there are accounts: none, only those that administrators create (the default), or self-registration. */
  accounts?: AccountsMode;
  /** How long the store is open to everyone, in milliseconds from when it takes requests. */
  openForMs?: number | undefined;
  /**
   * Called regularly with the remaining milliseconds of the open period; 0 when it is over. By default, it is logged.
   */
  onOpenPeriod?: (leftMs: number) => void;
  /** Lets a store that stands open do so at an address that others can reach. */
  openToTheNetwork?: boolean;
  /** The origins whose pages may use the store, beside its own; `*` for all. */
  allowedOrigins?: readonly string[];
  /** Proxies whose word on where a request comes from is taken: addresses, or networks such as `10.0.0.0/8`. */
  trustedProxies?: readonly string[];
  /** A certificate and its key, in PEM; the service speaks TLS then. */
  tls?: { cert: string; key: string } | undefined;
  /** How long a client may take to send a request, in milliseconds: its headers, and all of it. */
  timeouts?: { headersMs?: number; requestMs?: number };
  rateLimits?: Partial<RateLimits>;
  connectionLimits?: Partial<ConnectionLimits>;
  accessLimits?: Partial<AccessLimits>;
  /** What one request, connection and identity, and the process as a whole may use. */
  budgets?: Partial<BudgetLimits>;
  logLevel?: LogLevel;
  /** Where the log is written; by default to standard error. */
  logStream?: LogStream;
  /** Serves `/metrics` without a key. */
  openMetrics?: boolean;
}

/** The settings that can change while the service runs. A setting that is left out gets its default. */
export type Reloadable = Pick<
  ServiceOptions,
  'logLevel' | 'journal' | 'rateLimits' | 'connectionLimits' | 'accessLimits' | 'allowedOrigins' | 'tls'
>;

/** How much those may ask at once whom the policy governs. */
export interface AccessLimits {
  /** Watches of one connection. */
  watches: number;
  /** Documents read for one query, whether they belong to it or not. */
  documentsRead: number;
}

export const DEFAULT_ACCESS_LIMITS: AccessLimits = { watches: 500, documentsRead: 250_000 };

/** Where hooks may deliver, and when they are paused. */
export interface HookSettings {
  /** Networks that are not public and that hooks may reach, also by `http`: `10.0.0.0/8`. */
  networks?: readonly string[] | undefined;
  /** A hook whose deliveries fail for so long is paused, in milliseconds; by default three days. */
  giveUpMs?: number | undefined;
}

export const DEFAULT_PRESENCE_GRACE_MS = 10_000;

export const DEFAULT_GIVE_UP_MS = 3 * 86_400_000;

/** The default address to listen on. */
export const DEFAULT_HOST = '127.0.0.1';
export const DEFAULT_PORT = 4680;

export const DEFAULT_MAX_UNREAD_BYTES = 1024 * 1024;

export { DEFAULT_BUDGETS, type BudgetLimits } from './limits/limits.js';
export { VERSION } from './version.js';
