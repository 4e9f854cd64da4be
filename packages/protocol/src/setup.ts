import { z } from 'zod';
import { PolicyWarning } from './access.js';
import { CollectionName } from './documents.js';
import { HookForm, HookName } from './hooks.js';
import { Problem } from './problems.js';
import { SchemaMode } from './schemas.js';

/** The hook of a set-up: without its name, which is its key, and without a secret. */
const SetupHook = HookForm.omit({ name: true, after: true });

/** The set-up of a store: everything but its data, keys and accounts. */
export const StoreSetup = z
  .strictObject({
    policy: z
      .string()
      .max(1024 * 1024)
      .optional()
      .describe('The policy as one text, in YAML or JSON.'),
    schemas: z
      .record(CollectionName, z.strictObject({ mode: SchemaMode, schema: z.record(z.string(), z.unknown()) }))
      .default({})
      .describe('The schema of each collection that has one.'),
    indexes: z
      .record(CollectionName, z.array(z.string().min(1).max(1000)).max(100))
      .default({})
      .describe('The indexes of each collection: `["status,-altitude"]`.'),
    hooks: z.record(HookName, SetupHook).default({}),
  })
  .meta({ id: 'StoreSetup' });
export type StoreSetup = z.infer<typeof StoreSetup>;

/** A request to apply a set-up, or only to compare and check it. */
export const SetupForm = z.strictObject({
  setup: StoreSetup,
  dryRun: z.boolean().default(false).describe('Only say what would be done.'),
  remove: z.boolean().default(false).describe('Also remove what the store has and the set-up does not.'),
  note: z.string().max(500).optional(),
});
export type SetupForm = z.infer<typeof SetupForm>;

/** One difference between a set-up and a store, and what is done about it. */
export const SetupStep = z
  .object({
    part: z.enum(['policy', 'schema', 'index', 'hook']),
    name: z.string().describe('The collection, the collection and fields of an index, or the name of the hook.'),
    action: z
      .enum(['create', 'change', 'remove', 'leave'])
      .describe('`leave`: the store has it, the set-up does not, and it stays.'),
    detail: z
      .string()
      .optional()
      .describe('What comes with it: documents that are checked or indexed, watches that end.'),
    problem: Problem.optional().describe('Why it cannot be done.'),
  })
  .meta({ id: 'SetupStep' });
export type SetupStep = z.infer<typeof SetupStep>;

/** What applying a set-up does, or did. */
export const SetupAnswer = z
  .object({
    applied: z.boolean(),
    steps: z.array(SetupStep),
    warnings: z.array(PolicyWarning),
    secrets: z.record(z.string(), z.string()).describe('The secrets of new hooks. They are shown only once.'),
  })
  .meta({ id: 'SetupAnswer' });
export type SetupAnswer = z.infer<typeof SetupAnswer>;
