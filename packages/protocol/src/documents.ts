import { isCollectionName, isDocumentId, type JsonObject } from '@uproar/core';
import { z } from 'zod';

/** The name of a collection. */
export const CollectionName = z
  .string()
  .refine(isCollectionName, {
    error: 'A collection name is a lower-case letter and up to 63 more of a-z, 0-9 and "-".',
  })
  .meta({ id: 'CollectionName', pattern: '^[a-z][a-z0-9-]{0,63}$', examples: ['balloons'] });

/** The id of a document. */
export const DocumentId = z
  .string()
  .refine(isDocumentId, {
    error: 'An id is 1 to 128 of A-Z, a-z, 0-9, "-", ".", "_" and "~", and neither "." nor "..".',
  })
  .meta({ id: 'DocumentId', pattern: '^[A-Za-z0-9\\-._~]{1,128}$', examples: ['bl-17'] });

/**
 * The data of a document. Only its being a JSON object is declared here; {@link findDataFault} of the core checks the
 * rest.
 */
export const Data = z
  .custom<JsonObject>((value) => value !== undefined, { error: 'The data is missing.' })
  .meta({
    id: 'Data',
    type: 'object',
    additionalProperties: true,
    description: 'The fields of a document: a JSON object (I-JSON, RFC 7493).',
  });

/** The address of a document within the store: `collection/id`. */
export const DocumentAddress = z
  .string()
  .refine(
    (text) => {
      const slash = text.indexOf('/');
      return slash > 0 && isCollectionName(text.slice(0, slash)) && isDocumentId(text.slice(slash + 1));
    },
    { error: 'A document is addressed as collection/id, for example balloons/bl-17.' },
  )
  .meta({ id: 'DocumentAddress', examples: ['balloons/bl-17'] });

/** A document on the wire. */
export const WireDocument = z
  .object({
    id: DocumentId,
    version: z.int().describe('The seq of the commit that last wrote the document; also its ETag.'),
    created: z.iso.datetime().describe('When it was created (RFC 3339, UTC).'),
    updated: z.iso.datetime().describe('When it was last written (RFC 3339, UTC).'),
    expires: z.iso.datetime().optional().describe('When the store deletes it (RFC 3339, UTC), if it ends by itself.'),
    data: Data,
    related: z
      .record(z.string(), z.unknown())
      .optional()
      .describe('The related documents by name: a document, null, or a list.'),
  })
  .meta({ id: 'Document' });
export type WireDocument = z.infer<typeof WireDocument>;

/** A place in the order of commits. */
export const Seq = z.int().nonnegative().meta({ id: 'Seq', description: 'A place in the one order of all commits.' });

/** A document as a query with `fields` shows it: without bookkeeping. */
export const ProjectedDocument = WireDocument.pick({ id: true, data: true, related: true }).meta({
  id: 'ProjectedDocument',
});

/** The result of a query: documents in its order. */
export const Listing = z
  .object({
    seq: Seq.describe('The state of the store that this listing shows.'),
    documents: z.array(z.union([WireDocument, ProjectedDocument])),
    more: z.boolean().describe('True when the limit cut the listing.'),
    next: z.string().optional().describe('The cursor for `after`, if there is more.'),
    notes: z.array(z.string()).optional().describe('Hints for people, such as similar names.'),
  })
  .meta({ id: 'Listing' });
export type Listing = z.infer<typeof Listing>;

/** A collection, in the form of a document: `id` is its name, `version` the seq of its last change. */
export const CollectionSummary = z
  .object({
    id: CollectionName,
    version: Seq.optional(),
    created: z.iso.datetime().optional(),
    updated: z.iso.datetime().optional(),
    data: z.object({
      documents: z
        .int()
        .nonnegative()
        .optional()
        .describe('The number of documents. Only the name is returned if the policy may hide some of them.'),
      sizeBytes: z.int().nonnegative().optional().describe('The size of the data as JSON, in bytes.'),
    }),
  })
  .meta({ id: 'CollectionSummary' });
export type CollectionSummary = z.infer<typeof CollectionSummary>;

/** All collections, in the order of names. */
export const CollectionListing = z
  .object({ seq: Seq, documents: z.array(CollectionSummary), more: z.boolean() })
  .meta({ id: 'CollectionListing' });
export type CollectionListing = z.infer<typeof CollectionListing>;
