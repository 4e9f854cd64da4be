import { z } from 'zod';
import { CollectionName, DocumentId, Seq } from './documents.js';

/** A place in a document that does not fit a schema. */
export const Violation = z
  .object({
    pointer: z.string().describe('The place in the data (RFC 6901).'),
    detail: z.string(),
    rule: z.string().describe('The keyword of the schema that is violated: `type`, `required`, …'),
  })
  .meta({ id: 'Violation' });
export type Violation = z.infer<typeof Violation>;

/** What becomes of writes that do not fit. */
export const SchemaMode = z
  .enum(['off', 'warn', 'enforce'])
  .describe('`off`: the schema is a draft. `warn`: violations produce warnings. `enforce`: violations are refused.');
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

/** A new schema of a collection. */
export const NewSchema = z
  .strictObject({
    schema: z.record(z.string(), z.unknown()).optional().describe('If left out, only the mode changes.'),
    mode: SchemaMode.default('off'),
    anyway: z.boolean().optional().describe('Enforce the schema although stored documents violate it.'),
    note: z.string().max(1000).optional(),
  })
  .meta({ id: 'NewSchema' });

/** Which stored documents do not fit. */
export const SchemaReport = z
  .object({
    seq: Seq,
    documents: z.int().describe('The number of documents that were read.'),
    violations: z.int().describe('The number of documents that violate the schema.'),
    examples: z
      .array(z.object({ id: DocumentId, violations: z.array(Violation) }))
      .describe('The first of them, in the order of ids.'),
  })
  .meta({ id: 'SchemaReport' });
export type SchemaReport = z.infer<typeof SchemaReport>;
