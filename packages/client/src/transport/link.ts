import { HEARTBEAT_MS } from '@uproar/protocol/timing';
import type { LiveMethod, LiveNotifications, LiveParams, LiveResults, Problem } from '@uproar/protocol';

/** A connection or stream without any data for this time is considered dead, in milliseconds. */
export const SILENCE_MS = HEARTBEAT_MS * 2.5;

/** Where the connection to the store stands, and why. */
export type ConnectionState =
  | { name: 'connecting' }
  | { name: 'online'; server: LiveResults['hello'] }
  | { name: 'offline'; reason: string; retryInMs: number }
  | { name: 'refused'; problem: Problem }
  | { name: 'closed' };

/** A connection to a store: calls, their responses, and notifications. */
export interface Link {
  readonly state: ConnectionState;
  /** Whether calls arrive in the order in which they were made. */
  readonly keepsOrder: boolean;
  /**
   * Calls the service. The callbacks run before any later message is handled. A call without a connection waits for
   * one.
   */
  request<Method extends LiveMethod>(
    method: Method,
    params: LiveParams[Method],
    resolve: (result: LiveResults[Method]) => void,
    reject: (error: Error) => void,
  ): void;
  /** Makes a new connection now, with a new token. */
  renew(): void;
  close(): void;
}

/** What a link reports to its owner. */
export interface LinkListener {
  /** The state is another. After `online` nothing is watched any more on the other side. */
  stateChanged(state: ConnectionState): void;
  notified<Name extends keyof LiveNotifications>(name: Name, params: LiveNotifications[Name]): void;
}

/** A call that got no answer. */
export class ConnectionError extends Error {
  override name = 'ConnectionError';

  /** Also true for errors of a copy of this class, as files that are bundled apart have one each. */
  static override [Symbol.hasInstance](value: unknown): boolean {
    return value instanceof Error && value.name === 'ConnectionError';
  }
}

/** A token, or what gets one; it is asked whenever a connection is made, and before the token it gave last expires. */
export type Token = string | (() => string | Promise<string>);

/** The token to use now. */
export async function tokenOf(token: Token | undefined): Promise<string | undefined> {
  return typeof token === 'function' ? token() : token;
}
