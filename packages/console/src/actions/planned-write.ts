import type { Document, JsonObject } from '@uproar/client';

/** A write that is planned: the document now, and what it becomes. */
export interface PlannedWrite {
  id: string;
  /** Undefined: it does not exist. */
  now: Pick<Document, 'version' | 'data' | 'expires'> | undefined;
  /** Undefined: it is deleted. */
  to: JsonObject | undefined;
  /** When a document that is created expires. */
  expires?: string;
}
