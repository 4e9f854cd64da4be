import type { JsonObject } from '@uproar/core';
import type { ProblemError } from '@uproar/protocol/problem-error';

/** A document that lives as long as this client is connected. */
export interface Presence<Data = JsonObject> {
  /** Its address: `online/truck-3`. */
  readonly address: string;
  /** Why the store refused the document after a reconnect; it is not there then. */
  readonly refused: ProblemError | undefined;
  /**
   * Replaces the data.
   *
   * @throws {ProblemError} when the store refuses it
   */
  update(data: Data): Promise<void>;
  /** Deletes the document, unless others hold it, too. */
  leave(): Promise<void>;
}
