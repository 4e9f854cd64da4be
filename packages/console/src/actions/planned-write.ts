import type { Document, JsonObject } from '@uproar/client';

/** A document that is to be written: how it is now, and how it is to be. */
export interface PlannedWrite {
  id: string;
  /** Undefined: it does not exist. */
  now: Pick<Document, 'version' | 'data' | 'expires'> | undefined;
  /** Undefined: it is deleted. */
  to: JsonObject | undefined;
  /** When a document that is created expires. */
  expires?: string;
}
