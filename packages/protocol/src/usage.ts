import { z } from 'zod';

/** What usage can be grouped by. */
export const USAGE_GROUPS = ['day', 'identity', 'collection'] as const;
export type UsageGroup = (typeof USAGE_GROUPS)[number];

/** What is counted for each identity, collection and day. */
export const UsageCounts = z.object({
  requests: z.int().describe('HTTP requests, and calls over WebSockets.'),
  reads: z.int().describe('Documents read for answers, and for the first state of watches.'),
  examined: z
    .int()
    .describe('Documents that the store examined to answer. If this is far more than `reads`, an index is missing.'),
  writes: z.int().describe('Documents written by commits.'),
  deliveries: z.int().describe('Events sent to watches, to readers of the journal, and to hooks.'),
  sentBytes: z.int().describe('Bytes of answers and events.'),
});
export type UsageCounts = z.infer<typeof UsageCounts>;

const Day = z.iso.date({ error: 'A day looks like 2026-06-12.' });

/** The usage of one group. */
export const UsageRow = UsageCounts.extend({
  day: Day.optional(),
  identity: z
    .string()
    .optional()
    .describe('As in the journal: `key:board`. `hook:NAME` for hooks; `link` for signed links.'),
  collection: z.string().optional().describe('Empty for requests that concern no collection, or several.'),
  documents: z
    .int()
    .optional()
    .describe('Documents stored at the end of the last day; not where rows are grouped by identity.'),
  storedBytes: z.int().optional().describe('The bytes of the stored documents.'),
}).meta({ id: 'UsageRow' });
export type UsageRow = z.infer<typeof UsageRow>;

/** What was used in some days. */
export const UsageReport = z
  .object({
    from: Day,
    to: Day,
    rows: z.array(UsageRow).describe('By day, the newest first, if they are grouped by day; then by `sentBytes`.'),
    more: z.boolean().describe('True if there are more groups than `limit`.'),
    total: UsageRow.describe('The sum over all groups.'),
  })
  .meta({ id: 'UsageReport' });
export type UsageReport = z.infer<typeof UsageReport>;

/** The names in a list that is separated by commas. */
export function readGroups(text: string): UsageGroup[] {
  return text.split(',').filter((name) => name !== '') as UsageGroup[];
}

/** Which usage is asked for. */
export const UsageParameters = z.strictObject({
  from: Day.optional().describe('The first day (UTC); by default six days before `to`.'),
  to: Day.optional().describe('The last day (UTC); by default today.'),
  by: z
    .string()
    .refine((text) => readGroups(text).every((name) => (USAGE_GROUPS as readonly string[]).includes(name)), {
      error: `"by" is a list of ${USAGE_GROUPS.join(', ')}.`,
    })
    .default('identity')
    .describe('How to group: `day`, `identity`, `collection`, or several, separated by commas.'),
  identity: z.string().max(1000).optional().describe('Only this identity: `key:board`.'),
  collection: z.string().max(1000).optional().describe('Only this collection.'),
  limit: z.coerce.number({ error: '"limit" is a number.' }).int().min(1).max(10_000).default(100),
});
export type UsageParameters = z.infer<typeof UsageParameters>;
