import type { Document } from '@uproar/client';

/** Edits that were not saved when their document was closed, by its address: the text, and the document they began with. */
export const drafts = new Map<string, { base: Document; text: string }>();
