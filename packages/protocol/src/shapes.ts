import { z } from 'zod';
import { Seq } from './documents.js';

const range = <Schema extends z.ZodType>(value: Schema) => z.object({ min: value, max: value }).optional();
const Share = z.number().min(0).max(1);

/** What the values of a field are like. */
export const FieldShape = z
  .object({
    name: z.string().describe('With dots, as in queries; `[]` after a name means the items of a list.'),
    documents: z.int().describe('The number of documents with this field.'),
    types: z
      .partialRecord(z.enum(['text', 'time', 'number', 'boolean', 'null', 'list', 'object', 'place']), z.int())
      .describe('The number of values of each type; a time is an RFC 3339 string, a place a GeoJSON geometry.'),
    numbers: range(z.number()),
    whole: z.boolean().optional().describe('Whether all numbers are integers.'),
    values: z.array(z.string()).optional().describe('The different strings, if there are few.'),
    times: range(z.string()),
    lengths: range(z.int()).describe('Of texts, in characters.'),
    examples: z.array(z.unknown()),
    recently: Share.describe('The share of recent documents with this field.'),
    before: Share.describe('The share of older documents with this field.'),
    rare: z.boolean().describe('So rare that the name may be misspelt.'),
    near: z.array(z.string()).describe('Frequent fields with similar names.'),
  })
  .meta({ id: 'FieldShape' });

/** What the documents of a collection are like, as far as they may be seen. */
export const ShapeReport = z
  .object({
    documents: z.int().describe('The number of documents that were read.'),
    recent: z.int().describe('The number of recent documents: the newest fifth.'),
    recentSince: z.iso.datetime().nullable(),
    fields: z.array(FieldShape).describe('The most frequent fields first.'),
    seq: Seq,
  })
  .meta({ id: 'ShapeReport' });
export type ShapeReport = z.infer<typeof ShapeReport>;
