/** What one request, connection, identity and the process may use. Sizes are in bytes, times in milliseconds. */
export interface BudgetLimits {
  /** A result or a page of the journal as JSON; what is longer is paged. */
  resultBytes: number;
  /** The state that a watch begins with; what is larger is refused. */
  watchBytes: number;
  /** What is held for one identity: results being made, states of watches, and answers that it has not read. */
  identityBytes: number;
  /** The same for all together. */
  processBytes: number;
  /** Steps of work that the conditions of one query may take. */
  queryWork: number;
  /** Steps of work a second that the watches of one identity may take; twice as many at once. */
  watchWork: number;
  /** What a WebSocket connection may send before it has said who it is. */
  helloBytes: number;
  /** How long a connection may leave what was sent to it unread. */
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
