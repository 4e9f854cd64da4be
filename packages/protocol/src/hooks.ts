import type { JsonObject } from '@uproar/core';
import { z } from 'zod';
import { CollectionName, Seq } from './documents.js';

/** The kinds of change that a hook can deliver. */
export const CHANGE_KINDS = ['created', 'updated', 'deleted'] as const;

const ChangeKind = z.enum(CHANGE_KINDS, { error: 'The kinds of change are created, updated and deleted.' });

export const HookName = z.string().regex(/^[\p{L}\p{Nd}][\p{L}\p{Nd} ._-]{0,63}$/u, {
  error: 'A hook has a name of 1 to 64 letters, digits, spaces and ".", "_", "-".',
});

const HookClaims = z
  .custom<JsonObject>((value) => typeof value === 'object' && value !== null && !Array.isArray(value), {
    error: 'Claims are a JSON object.',
  })
  .meta({ type: 'object' });

/** What a hook delivers, and where to. */
const Definition = {
  url: z
    .string()
    .max(2000)
    .describe('Where deliveries are posted to. `https`, unless the service may reach its network by `http`, too.'),
  collection: CollectionName,
  where: z
    .string()
    .max(20_000)
    .optional()
    .describe('A condition in CQL2 text that the document meets before or after the change.'),
  kinds: z.array(ChangeKind).min(1).max(3).describe('The kinds of change; by default all.'),
  fields: z.string().max(10_000).optional().describe('The fields of the data that are sent: `name,status`.'),
  format: z
    .enum(['structured', 'binary'], { error: 'The format is structured or binary.' })
    .describe('How CloudEvents are sent: all in the body, or the attributes as headers.'),
  claims: HookClaims.optional().describe(
    'The hook delivers what the policy lets an identity with these claims read. Without them it delivers everything.',
  ),
  parallel: z.int().min(1).max(32).describe('How many deliveries may be under way at a time.'),
  timeoutSeconds: z.int().min(1).max(60).describe('How long the receiver may take to answer.'),
};

/** How a new hook is to be. */
export const HookForm = z.strictObject({
  name: HookName,
  ...Definition,
  kinds: Definition.kinds.default([...CHANGE_KINDS]),
  format: Definition.format.default('structured'),
  parallel: Definition.parallel.default(8),
  timeoutSeconds: Definition.timeoutSeconds.default(15),
  after: Seq.optional().describe('Begins with the changes after this seq; by default with the next one.'),
});
export type HookForm = z.infer<typeof HookForm>;

/** Changes of a hook: members that are left out stay as they are, null removes one. */
export const HookChange = z.strictObject({
  url: Definition.url.optional(),
  collection: CollectionName.optional(),
  where: Definition.where.nullable(),
  kinds: Definition.kinds.optional(),
  fields: Definition.fields.nullable(),
  format: Definition.format.optional(),
  claims: Definition.claims.nullable(),
  parallel: Definition.parallel.optional(),
  timeoutSeconds: Definition.timeoutSeconds.optional(),
});
export type HookChange = z.infer<typeof HookChange>;

/** A hook in a list of hooks. */
export const HookInfo = z
  .object({
    id: z.string(),
    name: z.string(),
    ...Definition,
    created: z.iso.datetime(),
    paused: z
      .object({ since: z.iso.datetime(), reason: z.string() })
      .optional()
      .describe('Why it does not deliver; missing while it does.'),
    seq: Seq.describe('Every change up to this seq is delivered, except those of the waiting documents.'),
    commitsBehind: z.int().nonnegative().describe('Commits after that seq, most of which may not concern it.'),
    waiting: z.int().nonnegative().describe('Documents whose changes are being delivered or tried again.'),
    failing: z
      .object({ since: z.iso.datetime(), documents: z.int() })
      .optional()
      .describe('Since when deliveries fail, and of how many documents.'),
    missed: z
      .object({ after: Seq, upTo: Seq })
      .optional()
      .describe('Commits that the journal no longer had. The next delivery reports them to the receiver.'),
    oldSecretUntil: z.iso.datetime().optional().describe('Until when deliveries are signed with two secrets.'),
  })
  .meta({ id: 'Hook' });
export type HookInfo = z.infer<typeof HookInfo>;

/** A hook with its secret, which is shown only once. */
export const NewHook = HookInfo.extend({
  secret: z.string().describe('What signatures are verified with (Standard Webhooks, `v1`).'),
}).meta({ id: 'NewHook' });
export type NewHook = z.infer<typeof NewHook>;

/** What a receiver made of one delivery. */
export const DeliveryResult = z
  .object({
    event: z.string().describe('The id of the event: the same each time it is sent.'),
    type: z.string(),
    subject: z.string().optional().describe('The document, as `collection/id`.'),
    seq: Seq,
    attempt: z.int().describe('1 for the first time.'),
    time: z.iso.datetime(),
    durationMs: z.number(),
    delivered: z.boolean(),
    status: z.int().optional().describe('The status of the answer.'),
    error: z.string().optional().describe('Why there is no answer, or why it does not count.'),
    answer: z.string().optional().describe('The beginning of the body of the answer.'),
  })
  .meta({ id: 'DeliveryResult' });
export type DeliveryResult = z.infer<typeof DeliveryResult>;

/** A recorded attempt to deliver. */
export const Delivery = DeliveryResult.extend({
  number: z.int().describe('Later attempts have greater numbers.'),
}).meta({ id: 'Delivery' });
export type Delivery = z.infer<typeof Delivery>;

/** A delivery with its message, if the journal still has the change. */
export const DeliveryDetails = Delivery.extend({
  request: z
    .object({ method: z.literal('POST'), url: z.string(), headers: z.record(z.string(), z.string()), body: z.string() })
    .optional(),
}).meta({ id: 'DeliveryDetails' });
export type DeliveryDetails = z.infer<typeof DeliveryDetails>;
