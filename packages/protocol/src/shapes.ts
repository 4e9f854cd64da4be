import { z } from 'zod';
import { Seq } from './documents.js';

const range = <Schema extends z.ZodType>(value: Schema) => z.object({ min: value, max: value }).optional();
const Share = z.number().min(0).max(1);

/** What the values of a field are like. */
export const FieldShape = z
  .object({
    name: z.string().describe('With dots, as queries have it; `[]` behind a name stands for the items of a list.'),
    documents: z.int().describe('How many documents have it.'),
    types: z
      .partialRecord(z.enum(['text', 'time', 'number', 'boolean', 'null', 'list', 'object', 'place']), z.int())
      .describe(
        'How many values of each type it has; a time is a text in the form of RFC 3339, a place a GeoJSON geometry.',
      ),
    numbers: range(z.number()),
    whole: z.boolean().optional().describe('Whether all its numbers are whole.'),
    values: z.array(z.string()).optional().describe('All its different texts, where they are few.'),
    times: range(z.string()),
    lengths: range(z.int()).describe('Of texts, in characters.'),
    examples: z.array(z.unknown()),
    recently: Share.describe('Share of the recent documents that have it.'),
    before: Share.describe('Share of the older ones.'),
    rare: z.boolean().describe('So few have it that its name may be misspelt.'),
    near: z.array(z.string()).describe('Fields that many have and whose names are nearly the same.'),
  })
  .meta({ id: 'FieldShape' });

/** What the documents of a collection are like, as far as they may be seen. */
export const ShapeReport = z
  .object({
    documents: z.int().describe('How many were looked at.'),
    recent: z.int().describe('How many of them count as recent: the newest fifth.'),
    recentSince: z.iso.datetime().nullable(),
    fields: z.array(FieldShape).describe('Those that many documents have first.'),
    seq: Seq,
  })
  .meta({ id: 'ShapeReport' });
export type ShapeReport = z.infer<typeof ShapeReport>;
