import type { IncludesForm, JsonPatch } from '@uproar/core';
import { z } from 'zod';
import { SelfDescription } from './access.js';
import { Receipt, WireCommit } from './commits.js';
import { CollectionName, DocumentAddress, Listing, ProjectedDocument, Seq, WireDocument } from './documents.js';
import { Problem } from './problems.js';

/** Related documents to be shown with each document of a query. */
export const WireInclude = z
  .strictObject({
    from: CollectionName,
    via: z
      .string()
      .max(1000)
      .optional()
      .describe('A field of this document with the id of a related document, or a list of ids.'),
    by: z.string().max(1000).optional().describe('A field of the related documents with the id of this document.'),
    where: z
      .union([z.string(), z.boolean(), z.record(z.string(), z.unknown())])
      .optional()
      .describe('A condition on the related documents.'),
    order: z.string().max(2000).optional(),
    limit: z.int().min(1).max(1000).optional().describe('The maximum per document; default 100.'),
    fields: z.string().max(10_000).optional(),
    get include() {
      return WireIncludes.optional();
    },
  })
  .meta({ id: 'Include' });

/** Includes: as text, or by the name they are shown under. */
export const WireIncludes: z.ZodType<IncludesForm | string> = z
  .union([
    z.string().max(20_000).describe('`crew = crews via crewId; flights by balloonId order -start limit 3`'),
    z.record(
      z.string(),
      z.lazy(() => WireInclude),
    ),
  ])
  .meta({ id: 'Includes' }) as never;

/** A query: which documents of a collection, in which order, how many, and which fields. */
export const WireQuery = z
  .strictObject({
    from: CollectionName,
    where: z
      .union([z.string(), z.boolean(), z.record(z.string(), z.unknown())])
      .optional()
      .describe('A condition: CQL2 text, or CQL2 JSON (OGC 21-065r2).'),
    order: z.string().max(2000).optional().describe('Fields to sort by, with `-` for descending: `-altitude,name`.'),
    limit: z
      .union([z.int().min(1).max(10_000), z.literal('none')])
      .optional()
      .describe('The maximum number of documents; default 500. `none` for watches, NDJSON and CSV.'),
    ordered: z
      .boolean()
      .optional()
      .describe(
        'Whether a watch carries the order: its patches are for `{ "documents": { "<id>": document }, "ids": ["<id>"] }`. Needs a limit; reads ignore it.',
      ),
    after: z.string().max(20_000).optional().describe('The cursor `next` of the previous result.'),
    fields: z
      .string()
      .max(10_000)
      .optional()
      .describe('The fields to return: `name,pilot.name`. Metadata is left out then.'),
    include: WireIncludes.optional().describe(
      'Related documents, returned under `related` of each document: by name, or as text.',
    ),
    summary: z
      .string()
      .max(2000)
      .optional()
      .describe('Totals instead of documents: `count(),sum(passengers)`; with `count sum avg min max`.'),
    by: z.string().max(2000).optional().describe('The fields to group a summary by.'),
  })
  .meta({ id: 'Query' });
export type WireQuery = z.infer<typeof WireQuery>;

/** What can be watched: a query, one document (which need not exist yet), or the list of collections. */
export const WatchTarget = z.union([
  z.strictObject({ query: WireQuery }),
  z.strictObject({ doc: DocumentAddress }),
  z.strictObject({ collections: z.literal(true) }),
]);
export type WatchTarget = z.infer<typeof WatchTarget>;

const ResumePoint = z.string().max(200).describe('An opaque resume point.');

/**
 * Operations of a JSON Patch (RFC 6902) on `{ "<id>": document }`; of a query with `ordered`, on
 * `{ "documents": { "<id>": document }, "ids": ["<id>"] }`.
 */
export const WirePatch = z
  .custom<JsonPatch>((value) => Array.isArray(value))
  .meta({ id: 'JsonPatch', type: 'array', items: { type: 'object' }, description: 'A JSON Patch (RFC 6902).' });

/** Documents as a watch shows them: with `fields`, and in a summary, they have no bookkeeping. */
const Shown = z.array(z.union([WireDocument, ProjectedDocument])) as unknown as z.ZodArray<typeof WireDocument>;

/** The whole state of a watch. */
export const WatchResult = z
  .object({
    seq: Seq.describe('The state of the store that the documents show.'),
    documents: Shown.describe('All documents of the watch, in order.'),
    more: z.boolean().describe('True when a limit cut the result.'),
  })
  .meta({ id: 'WatchResult' });
export type WatchResult = z.infer<typeof WatchResult>;

/** A change of the state of a watch. */
export const WatchChange = z
  .object({
    seq: Seq.describe('The state of the store after the change.'),
    patch: WirePatch,
    more: z.boolean().optional().describe('Whether the limit cuts the result; present only if this has changed.'),
  })
  .meta({ id: 'WatchChange' });
export type WatchChange = z.infer<typeof WatchChange>;

/** What the WebSocket calls take (JSON-RPC 2.0 `params`, by name). */
export const LIVE_PARAMS = {
  hello: z.strictObject({
    token: z.string().max(16_384).optional().describe('A key or a token. Left out by anonymous callers.'),
    device: z.string().max(64).optional().describe('The name of the device, for administrators.'),
    seen: Seq.optional().describe(
      'The newest seq that the client has seen. A node of a cluster answers when it has it, too.',
    ),
  }),
  watch: z.union(
    [
      z.strictObject({ query: WireQuery, resume: ResumePoint.optional() }),
      z.strictObject({ doc: DocumentAddress, resume: ResumePoint.optional() }),
      z.strictObject({ collections: z.literal(true), resume: ResumePoint.optional() }),
    ],
    { error: 'A watch has exactly one of "query", "doc" and "collections", and optionally "resume".' },
  ),
  unwatch: z.strictObject({ watch: z.string().max(64) }),
  query: WireQuery,
  get: z.strictObject({ doc: DocumentAddress, at: Seq.optional() }),
  commit: WireCommit,
  release: z.strictObject({ doc: DocumentAddress }),
} as const;

/** The names of the WebSocket calls. */
export type LiveMethod = keyof typeof LIVE_PARAMS;

/** How a node says that it is not up to date. */
const StaleSince = z.iso
  .datetime()
  .describe('Since when the node may lack what others have written, because the log service does not answer.');

/** What the WebSocket calls answer (JSON-RPC 2.0 `result`). */
export const LIVE_RESULTS = {
  hello: z.object({
    store: z.string().describe('The id of the store.'),
    serverVersion: z.string(),
    maxCommitBytes: z.int().optional().describe('The maximum size of a commit as JSON, in bytes.'),
    seq: Seq,
    time: z.iso.datetime().describe("The server's clock."),
    identity: SelfDescription,
    node: z.string().optional().describe('The name of the answering node, in a cluster.'),
    staleSince: StaleSince.optional(),
    openUntil: z.iso.datetime().optional().describe('The end of the open period.'),
  }),
  watch: z.union([
    WatchResult.extend({ watch: z.string(), resume: ResumePoint }),
    WatchChange.extend({ watch: z.string(), resume: ResumePoint }),
  ]),
  unwatch: z.object({}),
  query: Listing,
  get: WireDocument,
  commit: Receipt,
  release: z.object({}),
} as const;

/** What the service sends unasked over a WebSocket (JSON-RPC 2.0 notifications). */
export const LIVE_NOTIFICATIONS = {
  change: WatchChange.extend({ watch: z.string(), resume: ResumePoint }),
  reset: WatchResult.extend({
    watch: z.string(),
    resume: ResumePoint,
    was: z.string().optional().describe('The previous id of the watch, if it has changed.'),
  }),
  end: z.object({ watch: z.string(), problem: Problem }),
  accepted: z
    .object({ id: z.string(), seq: Seq })
    .describe(
      'A commit with an id, sent on this connection, is on disk with this seq. Sent before the changes of the commit, and only if the connection has watches.',
    ),
  alive: z
    .object({
      seq: Seq,
      staleSince: StaleSince.optional(),
      nextBytes: z
        .int()
        .optional()
        .describe('The size of the next message, if it is large. On a slow link it takes a while.'),
    })
    .describe(
      'A heartbeat, every 15 s, and before each message of more than 256 KiB. In a cluster, also when the node becomes stale, and when it is up to date again.',
    ),
} as const;

export type LiveParams = { [Method in LiveMethod]: z.infer<(typeof LIVE_PARAMS)[Method]> };
export type LiveResults = { [Method in LiveMethod]: z.infer<(typeof LIVE_RESULTS)[Method]> };
export type LiveNotifications = {
  [Name in keyof typeof LIVE_NOTIFICATIONS]: z.infer<(typeof LIVE_NOTIFICATIONS)[Name]>;
};
