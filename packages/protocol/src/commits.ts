import { z } from 'zod';
import { CollectionName, Data, DocumentAddress, DocumentId, Seq } from './documents.js';

const IfVersion = z
  .int()
  .nonnegative()
  .optional()
  .describe('The version the document must have; 0 when it must not exist.');

/** One write of a commit. */
export const WireWrite = z
  .union([
    z
      .strictObject({ create: CollectionName, id: DocumentId.optional(), data: Data })
      .describe('Create a document; without an id it gets a generated one.'),
    z
      .strictObject({ put: DocumentAddress, data: Data, ifVersion: IfVersion })
      .describe('Create or replace a document.'),
    z
      .strictObject({ merge: DocumentAddress, data: Data, ifVersion: IfVersion })
      .describe('Change fields of a document by JSON Merge Patch (RFC 7396).'),
    z.strictObject({ delete: DocumentAddress, ifVersion: IfVersion }).describe('Delete a document.'),
  ])
  .meta({ id: 'Write' });
export type WireWrite = z.infer<typeof WireWrite>;

/** An atomic group of writes. */
export const WireCommit = z
  .strictObject({
    id: DocumentId.optional().describe('A name for the commit, kept in the journal.'),
    writes: z.array(WireWrite).min(1).max(10_000),
  })
  .meta({ id: 'Commit' });
export type WireCommit = z.infer<typeof WireCommit>;

/** What a commit came to. */
export const Receipt = z
  .object({
    seq: Seq,
    documents: z
      .array(
        z.object({
          collection: CollectionName,
          id: DocumentId,
          version: z.int().nonnegative().describe('The seq of the commit; 0 for a deleted document.'),
        }),
      )
      .describe('The documents written, in the order of the writes.'),
  })
  .meta({ id: 'Receipt' });
export type Receipt = z.infer<typeof Receipt>;
