import { z } from 'zod';
import { CollectionName, DocumentAddress, Seq } from './documents.js';

/** What is to be erased. */
export const ErasureForm = z
  .strictObject({
    doc: DocumentAddress.optional().describe('One document.'),
    collection: CollectionName.optional().describe('All documents of this collection that meet `where`.'),
    where: z.string().max(100_000).optional().describe('A condition (CQL2).'),
    past: z
      .boolean()
      .default(false)
      .describe('Also documents that met the condition at any time in the journal, such as deleted ones.'),
    forgetIds: z
      .boolean()
      .default(false)
      .describe('Also erase the ids of the documents. Readers of the journal cannot tell then which ones were erased.'),
    reason: z.string().max(1000).optional().describe('Why; stored with the erasure.'),
    dryRun: z.boolean().default(false).describe('Only count.'),
  })
  .refine(({ doc, collection }) => (doc === undefined) !== (collection === undefined), {
    error: 'Name one document as "doc", or a "collection" with a condition.',
  })
  .refine(({ collection, where }) => (collection === undefined) === (where === undefined), {
    error: 'A "collection" needs a condition as "where".',
    path: ['where'],
  })
  .meta({ id: 'ErasureForm' });
export type ErasureForm = z.infer<typeof ErasureForm>;

/** A backup that was made, and that the service remembers. */
export const BackupRecord = z
  .object({
    id: z.string(),
    time: z.iso.datetime(),
    identity: z.string().describe('The identity that made the backup.'),
    seq: Seq,
    sizeBytes: z.int(),
    sha256: z.string().describe('The SHA-256 of the backup file, in hexadecimal digits.'),
  })
  .meta({ id: 'BackupRecord' });
export type BackupRecord = z.infer<typeof BackupRecord>;

/** An erasure. */
export const Erasure = z
  .object({
    id: z.string(),
    time: z.iso.datetime(),
    identity: z.string().describe('The identity that asked for the erasure.'),
    collection: CollectionName,
    documents: z.int().describe('Documents that were erased with their past.'),
    changes: z.int().describe('Changes in the journal that were emptied.'),
    seq: Seq.describe('The last commit of the erasure; 0 if there was nothing to erase.'),
    reason: z.string().optional(),
    forgetIds: z.boolean(),
    state: z
      .enum(['erasing', 'rewriting', 'done'])
      .describe('`rewriting`: nothing can be read any more, but the files of some nodes may still hold parts.'),
    waiting: z.array(z.string()).describe('The nodes that have not rewritten their files yet, by their addresses.'),
    problem: z.string().optional().describe('Why this node could not rewrite its files.'),
    backups: z.array(BackupRecord).describe('The known backups that still contain the erased documents.'),
  })
  .meta({ id: 'Erasure' });
export type Erasure = z.infer<typeof Erasure>;

/** What an erasure would erase. */
export const ErasurePreview = z
  .object({
    documents: z.int().describe('Documents that exist.'),
    earlier: z
      .int()
      .describe('Further documents that met the condition at some time in the journal; erased only with `past`.'),
  })
  .meta({ id: 'ErasurePreview' });
export type ErasurePreview = z.infer<typeof ErasurePreview>;
