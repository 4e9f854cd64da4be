import { z } from 'zod';
import { CollectionName, DocumentId, Seq } from './documents.js';

/** A place in a document that does not fit a schema. */
export const Violation = z
  .object({
    pointer: z.string().describe('The place in the data (RFC 6901).'),
    detail: z.string(),
    rule: z.string().describe('The keyword of the schema that is not met: `type`, `required`, …'),
  })
  .meta({ id: 'Violation' });
export type Violation = z.infer<typeof Violation>;

/** What becomes of writes that do not fit. */
export const SchemaMode = z
  .enum(['off', 'warn', 'enforce'])
  .describe(
    '`off`: kept as a draft. `warn`: writes that do not fit are done and told of. `enforce`: they are refused.',
  );
export type SchemaMode = z.infer<typeof SchemaMode>;

/** The schema of a collection. */
export const CollectionSchema = z
  .object({
    collection: CollectionName,
    version: z.int().describe('From 1, counted for each collection.'),
    mode: SchemaMode,
    schema: z.record(z.string(), z.unknown()).describe('JSON Schema, 2020-12, of the data of a document.'),
    time: z.iso.datetime(),
    identity: z.string().describe('Who set it.'),
    note: z.string().optional(),
  })
  .meta({ id: 'CollectionSchema' });
export type CollectionSchema = z.infer<typeof CollectionSchema>;

/** What is to become the schema of a collection. */
export const NewSchema = z
  .strictObject({
    schema: z
      .record(z.string(), z.unknown())
      .optional()
      .describe('Left out, the one there is stays, and only its mode alters.'),
    mode: SchemaMode.default('off'),
    anyway: z.boolean().optional().describe('Enforces it although some stored documents do not fit.'),
    note: z.string().max(1000).optional(),
  })
  .meta({ id: 'NewSchema' });

/** Which stored documents do not fit. */
export const SchemaReport = z
  .object({
    seq: Seq,
    documents: z.int().describe('How many were looked at.'),
    violations: z.int().describe('How many of them do not fit.'),
    examples: z
      .array(z.object({ id: DocumentId, violations: z.array(Violation) }))
      .describe('The first of them, in the order of ids.'),
  })
  .meta({ id: 'SchemaReport' });
export type SchemaReport = z.infer<typeof SchemaReport>;
