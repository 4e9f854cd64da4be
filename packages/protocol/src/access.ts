import { RULES, type JsonObject } from '@uproar/core';
import { z } from 'zod';
import { CollectionName, Data, DocumentId, WireDocument } from './documents.js';

const Claims = z
  .custom<JsonObject>((value) => typeof value === 'object' && value !== null && !Array.isArray(value), {
    error: 'Claims are a JSON object.',
  })
  .meta({ type: 'object', description: 'What the policy reads by claim().' });

/** The identity of a caller. */
export const SelfDescription = z
  .object({
    kind: z.enum(['key', 'token', 'account', 'anonymous', 'open']),
    name: z.string().describe('The name of the key, the `sub` of the token, the id of the account.'),
    scope: z
      .enum(['admin', 'write', 'read'])
      .optional()
      .describe('The scope of a key. Other identities are subject to the policy.'),
    collections: z.array(CollectionName).optional().describe('The only collections that a key has access to.'),
    claims: Claims.optional(),
    expires: z.iso.datetime().optional(),
  })
  .meta({ id: 'Identity' });
export type SelfDescription = z.infer<typeof SelfDescription>;

/** What a key may do: administer, write (and read) all data, or read it. */
export const KeyScope = z.enum(['admin', 'write', 'read'], { error: 'The scope of a key is admin, write or read.' });
export type KeyScope = z.infer<typeof KeyScope>;

/** A key as it is listed. */
export const KeyInfo = z
  .object({
    id: z.string(),
    name: z.string(),
    scope: KeyScope,
    collections: z.array(CollectionName).optional().describe('The only collections that the key has access to.'),
    created: z.iso.datetime(),
    expires: z.iso.datetime().optional(),
    used: z.iso.datetime().optional().describe('When it was last used, to the minute.'),
  })
  .meta({ id: 'Key' });
export type KeyInfo = z.infer<typeof KeyInfo>;

const KeyName = z.string().regex(/^[\p{L}\p{Nd}][\p{L}\p{Nd} ._-]{0,63}$/u, {
  error: 'A key has a name of 1 to 64 letters, digits, spaces and ".", "_", "-".',
});

/** How a new key is to be. */
export const KeyForm = z.strictObject({
  name: KeyName,
  scope: KeyScope,
  collections: z
    .array(CollectionName)
    .min(1)
    .max(100)
    .optional()
    .describe('The only collections that the key has access to.'),
  expires: z.iso.datetime({ error: 'A time like 2026-06-12T04:30:00Z was expected.' }).optional(),
});
export type KeyForm = z.infer<typeof KeyForm>;

/** A key that was made or rotated; `key` is not to be seen again. */
export const NewKey = KeyInfo.extend({ key: z.string() }).meta({ id: 'NewKey' });
export type NewKey = z.infer<typeof NewKey>;

/** A version of the policy. */
export const PolicyVersion = z
  .object({
    version: z.int().nonnegative().describe('0 if no policy has been set.'),
    text: z.string().describe('The policy as it was written, in YAML or JSON.'),
    time: z.iso.datetime().optional(),
    identity: z.string().optional().describe('Who set it.'),
    note: z.string().optional(),
  })
  .meta({ id: 'PolicyVersion' });
export type PolicyVersion = z.infer<typeof PolicyVersion>;

/** A likely mistake in a policy. */
export const PolicyWarning = z
  .object({ pointer: z.string().describe('The place in the policy (RFC 6901).'), message: z.string() })
  .meta({ id: 'PolicyWarning' });
export type PolicyWarning = z.infer<typeof PolicyWarning>;

/** A policy that is to be put in force, or only to be checked. */
export const PolicyForm = z.strictObject(
  {
    text: z
      .string({ error: 'Send the policy, YAML or JSON, as one text: {"text": "collections: …"}.' })
      .max(1024 * 1024)
      .describe('YAML or JSON.'),
    note: z.string().max(500).optional(),
    ifVersion: z
      .int()
      .nonnegative()
      .optional()
      .describe('The version that the change is based on. The request is refused if another version is in force.'),
    dryRun: z.boolean().optional().describe('Only check it.'),
  },
  {
    error: (issue) =>
      issue.code === 'unrecognized_keys'
        ? `There is no member ${String(issue.keys)}. The members are: text, note, ifVersion, dryRun.`
        : undefined,
  },
);
export type PolicyForm = z.infer<typeof PolicyForm>;

export const PolicyAnswer = PolicyVersion.extend({ warnings: z.array(PolicyWarning) }).meta({ id: 'PolicyAnswer' });
export type PolicyAnswer = z.infer<typeof PolicyAnswer>;

/** A request of a given identity, to evaluate the policy for. */
export const PolicyAttempt = z
  .strictObject({
    as: z
      .union([z.strictObject({ claims: Claims }), z.strictObject({ account: z.string() }), z.literal('anonymous')])
      .describe('Claims as in a token, the id or name of an account, or an anonymous caller.'),
    do: z.enum(RULES),
    collection: CollectionName,
    id: DocumentId.optional().describe('The document. Not needed if `before` or `data` are given.'),
    data: Data.optional().describe('The data after the write, for create and update.'),
    merge: Data.optional().describe('For update, instead of `data`: the changes to merge (RFC 7396).'),
    before: Data.optional().describe('The data before the write, instead of the data in the store.'),
    text: z.string().optional().describe('A policy to evaluate instead of the present one.'),
  })
  .meta({ id: 'PolicyAttempt' });
export type PolicyAttempt = z.infer<typeof PolicyAttempt>;

/** What the policy says to an attempt, and why. */
export const PolicyDecision = z
  .object({
    allowed: z.boolean(),
    rule: z.enum(RULES).describe('The rule that decided; `read` if the document is hidden from the caller.'),
    pointer: z.string().nullable().describe('The place of the rule in the policy; null if there is no rule.'),
    condition: z.string().nullable(),
    parts: z.array(z.object({ condition: z.string(), truth: z.boolean().nullable() })),
    values: z.record(z.string(), z.unknown()).describe('The fields and claims that the rule read, with their values.'),
    concealed: z.array(z.string()).describe('The concealed fields.'),
    document: WireDocument.partial({ version: true, created: true, updated: true }).optional(),
  })
  .meta({ id: 'PolicyDecision' });
export type PolicyDecision = z.infer<typeof PolicyDecision>;

/** The identity to preview a collection as. */
export const PolicyPreview = z.strictObject({
  as: PolicyAttempt.shape.as,
  collection: CollectionName,
  where: z.string().optional(),
  limit: z.int().min(1).max(1000).default(100),
  text: z.string().optional().describe('A policy to evaluate instead of the present one.'),
});

const AccountName = z
  .string()
  .regex(/^[^\p{Cc}\p{Z}]{1,128}$/u, { error: 'The name of an account has 1 to 128 characters and no spaces.' });
const Password = z
  .string()
  .min(8, { error: 'A password has at least 8 characters.' })
  .max(200, { error: 'A password has at most 200 characters.' });

/** A name and a password. */
export const Credentials = z.strictObject({ name: AccountName, password: Password });

/** An account as administrators see it. */
export const AccountInfo = z
  .object({
    id: z.string(),
    name: z.string().optional().describe('The name for signing in; a guest has none.'),
    guest: z.boolean(),
    claims: Claims,
    created: z.iso.datetime(),
    disabled: z.boolean(),
  })
  .meta({ id: 'Account' });
export type AccountInfo = z.infer<typeof AccountInfo>;

/** A new account; administrators may say something of it. */
export const AccountForm = Credentials.extend({ claims: Claims.optional() });
/** The changes that administrators can make to an account. */
export const AccountChange = z.strictObject({
  claims: Claims.optional(),
  disabled: z.boolean().optional(),
  password: Password.optional().describe('Disables the account and ends all its sessions.'),
});
export const PasswordChange = z.strictObject({ old: z.string().max(200), new: Password });

/** What signing in gives: send `accessToken` as the Bearer token, and `refreshToken` for the next two, once. */
export const Grant = z
  .object({
    account: z.string(),
    accessToken: z.string(),
    accessExpires: z.iso.datetime(),
    refreshToken: z.string(),
    refreshExpires: z.iso.datetime(),
  })
  .meta({ id: 'Grant' });
export type Grant = z.infer<typeof Grant>;

/** An entry of the audit log. */
export const AuditEntry = z
  .object({
    number: z.int(),
    time: z.iso.datetime(),
    event: z.string().describe('`sign-in`, `key-created`, `policy-changed`, `refused` …'),
    identity: z.string(),
    address: z.string().optional(),
    request: z.string().optional().describe('The id of the request.'),
    count: z.int().describe('How often this happened within a minute.'),
    detail: z.record(z.string(), z.unknown()),
  })
  .meta({ id: 'AuditEntry' });
export type AuditEntry = z.infer<typeof AuditEntry>;
