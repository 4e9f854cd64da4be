import { findAdjustFault, parsePointer, PointerError, type Adjustments, type JsonPatch } from '@uproar/core';
import { z } from 'zod';
import { Violation } from './schemas.js';
import { CollectionName, Data, DocumentAddress, DocumentId, Seq } from './documents.js';

const IfVersion = z
  .int()
  .nonnegative()
  .optional()
  .describe('The version that the document must have; 0 if it must not exist.');

/** The most operations one patch or adjustment may have. */
export const MAX_OPERATIONS = 1000;

const Pointer = z.string().superRefine((text, context) => {
  try {
    parsePointer(text);
  } catch (error) {
    if (!(error instanceof PointerError)) throw error;
    context.addIssue({ code: 'custom', message: error.message });
  }
});
const Value = z.unknown().refine((value) => value !== undefined, { error: 'The value is missing.' });

/** The operations of a JSON Patch on a document's data. Members that RFC 6902 does not know are ignored. */
export const PatchOperations = z
  .array(
    z.discriminatedUnion(
      'op',
      [
        z.object({ op: z.enum(['add', 'replace', 'test']), path: Pointer, value: Value }),
        z.object({ op: z.literal('remove'), path: Pointer }),
        z.object({ op: z.enum(['move', 'copy']), from: Pointer, path: Pointer }),
      ],
      { error: 'An operation has an "op": add, remove, replace, move, copy or test.' },
    ),
  )
  .max(MAX_OPERATIONS)
  .transform((operations) => operations as JsonPatch)
  .meta({
    id: 'PatchOperations',
    type: 'array',
    items: { type: 'object' },
    description: `A JSON Patch (RFC 6902) on the data of a document, up to ${MAX_OPERATIONS} operations.`,
  });

const Items = z.array(Value);
const Adjustment = z.union(
  [
    z.strictObject({ add: z.number() }).describe('Add to the number; a missing field counts as 0.'),
    z.strictObject({ max: z.union([z.number(), z.string()]) }).describe('Keep the greater of the two.'),
    z.strictObject({ min: z.union([z.number(), z.string()]) }).describe('Keep the smaller of the two.'),
    z.strictObject({ append: Items }).describe('Add these items at the end of the list.'),
    z.strictObject({ with: Items }).describe('Add the items that the list does not contain.'),
    z.strictObject({ without: Items }).describe('Remove these items from the list.'),
    z.strictObject({ now: z.literal(true) }).describe('Set the field to the time of the commit (RFC 3339).'),
    z.strictObject({ clear: z.literal(true) }).describe('Remove the field.'),
  ],
  {
    error:
      'An adjustment is one of: {"add": 1}, {"max": 9}, {"min": 0}, {"append": []}, {"with": []}, {"without": []}, {"now": true}, {"clear": true}.',
  },
);

/** What becomes of fields, by their JSON Pointers. */
export const WireAdjustments = z
  .record(z.string(), Adjustment)
  .superRefine((by, context) => {
    const count = Object.keys(by).length;
    const fault =
      count === 0
        ? { pointer: undefined, detail: 'There is nothing to adjust.' }
        : count > MAX_OPERATIONS
          ? { pointer: undefined, detail: `At most ${MAX_OPERATIONS} fields can be adjusted at once.` }
          : findAdjustFault(by as Adjustments);
    if (!fault) return;
    context.addIssue({
      code: 'custom',
      message: fault.detail,
      path: fault.pointer === undefined ? [] : [fault.pointer],
    });
  })
  .transform((by) => by as Adjustments)
  .meta({
    id: 'Adjustments',
    type: 'object',
    examples: [{ '/headcount': { add: 1 } }],
    description:
      'Operations on fields by their JSON Pointers (RFC 6901), one for each: `add`, `max`, `min`, `append`, `with`, `without`, `now`, `clear`.',
  });

/** The longest time that a document can be given, in seconds: a hundred years. */
export const MAX_TTL_S = 3_155_760_000;

/** When a document ends: a time, or a duration. */
export const Expires = z.iso
  .datetime({ offset: true, error: 'A time looks like 2026-06-07T08:00:00Z.' })
  .describe('When the store deletes the document (RFC 3339).');
export const Ttl = z
  .number({ error: '"ttl" is a number of seconds.' })
  .positive({ error: '"ttl" is a number of seconds above 0.' })
  .max(MAX_TTL_S, { error: `"ttl" is at most ${MAX_TTL_S} seconds.` })
  .describe('The same as a duration from the time of the commit by the clock of the store, in seconds.');

/**
 * When the document of a write ends. Without it, a put or create leaves a document that does not end, and other writes
 * keep its end.
 */
const Ends = {
  expires: Expires.nullable().optional().describe('When the store deletes the document (RFC 3339); null: it does not.'),
  ttl: Ttl.optional(),
};

/** One write of a commit. */
export const WireWrite = z
  .union(
    [
      z
        .strictObject({
          put: DocumentAddress,
          data: Data,
          ifVersion: IfVersion,
          ...Ends,
          whileConnected: z
            .literal(true)
            .optional()
            .describe('The store deletes the document when this WebSocket connection has ended for a while.'),
        })
        .describe('Create or replace a document.'),
      z
        .strictObject({ merge: DocumentAddress, data: Data, ifVersion: IfVersion, ...Ends })
        .describe('Change fields of a document by JSON Merge Patch (RFC 7396).'),
      z
        .strictObject({
          create: CollectionName,
          id: DocumentId.optional(),
          data: Data,
          keepExisting: z.literal(true).optional().describe('If the document exists, leave it unchanged.'),
          ...Ends,
        })
        .describe('Create a document; without an id, one is generated.'),
      z
        .strictObject({ patch: DocumentAddress, ops: PatchOperations, ifVersion: IfVersion, ...Ends })
        .describe('Change a document by JSON Patch (RFC 6902); its `test` is a condition on a field.'),
      z
        .strictObject({ adjust: DocumentAddress, by: WireAdjustments, ifVersion: IfVersion, ...Ends })
        .describe('Change fields relative to their value in the store.'),
      z.strictObject({ delete: DocumentAddress, ifVersion: IfVersion }).describe('Delete a document.'),
    ],
    { error: 'A write has exactly one of create, put, merge, patch, adjust and delete, and only its members.' },
  )
  .refine((write) => !('ttl' in write && 'expires' in write), {
    error: 'A write has "expires" or "ttl", not both.',
    path: ['ttl'],
  })
  .refine((write) => !('whileConnected' in write && ('ttl' in write || 'expires' in write)), {
    error: 'A document that lives as long as a connection has no other end.',
    path: ['whileConnected'],
  })
  .meta({ id: 'Write' });
export type WireWrite = z.infer<typeof WireWrite>;

/** A document that was read for a commit, and the version it had then. */
export const WireRead = z
  .strictObject({
    doc: DocumentAddress,
    version: z.int().nonnegative().describe('The version that was read; 0 if the document did not exist.'),
  })
  .meta({ id: 'Read' });

/** How many documents a commit may say it read. */
export const MAX_READS = 10_000;

/** An atomic group of writes. */
export const WireCommit = z
  .strictObject({
    id: DocumentId.optional().describe(
      'The id of the commit (an idempotency key). If it is sent again with the same content, the first answer is returned, for 24 hours.',
    ),
    writes: z.array(WireWrite).min(1, { error: 'A commit has at least one write.' }),
    reads: z
      .array(WireRead)
      .max(MAX_READS)
      .optional()
      .describe('Documents that the commit is based on. If one of them has another version, nothing is written.'),
  })
  .meta({ id: 'Commit' });
export type WireCommit = z.infer<typeof WireCommit>;

/** The result of a commit. */
export const Receipt = z
  .object({
    seq: Seq,
    documents: z
      .array(
        z.object({
          collection: CollectionName,
          id: DocumentId,
          version: z
            .int()
            .nonnegative()
            .describe('The seq of the commit; 0 for a deleted document; an earlier seq for a document that was kept.'),
        }),
      )
      .describe('The documents written, in the order of the writes.'),
    warnings: z
      .array(z.object({ write: z.int(), document: DocumentAddress, violations: z.array(Violation) }))
      .optional()
      .describe('Writes that were applied although they violate the schema, because its mode is `warn`.'),
  })
  .meta({ id: 'Receipt' });
export type Receipt = z.infer<typeof Receipt>;
