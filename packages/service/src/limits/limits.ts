/** What one request, connection, identity and the process may use. Sizes are in bytes, times in milliseconds. */
export interface BudgetLimits {
  /** The maximum size of a JSON result or journal page; longer ones are paged. */
  resultBytes: number;
  /** The maximum size of the first state of a watch; larger ones are refused. */
  watchBytes: number;
  /** The memory for one identity: results in progress, states of watches, and unread responses. */
  identityBytes: number;
  /** The same for all together. */
  processBytes: number;
  /** Steps of work that the conditions of one query may take. */
  queryWork: number;
  /** Steps of work a second that the watches of one identity may take; twice as many at once. */
  watchWork: number;
  /** What a WebSocket connection may send before it has said who it is. */
  helloBytes: number;
  /** How long a connection may leave sent data unread. */
  unreadMs: number;
  /** How long a connection may stay without a request, counted from when it was accepted. */
  idleMs: number;
  /** How long a long read waits for its turn. */
  waitMs: number;
}

const MIB = 1024 * 1024;

/** The budgets of a service unless its settings say otherwise. */
export const DEFAULT_BUDGETS: BudgetLimits = {
  resultBytes: 16 * MIB,
  watchBytes: 64 * MIB,
  identityBytes: 192 * MIB,
  processBytes: 512 * MIB,
  queryWork: 2_000_000_000,
  watchWork: 10_000_000,
  helloBytes: 16 * 1024,
  unreadMs: 30_000,
  idleMs: 20_000,
  waitMs: 10_000,
};
