import { deepEqual, formatTerm, type Author, type JsonObject, type JsonValue } from '@uproar/core';
import { ProblemError, type Problem, type SetupForm, type SetupStep, type StoreSetup } from '@uproar/protocol';
import { newHook, type Hooks } from '../hooks/hooks.js';
import { readIndexFields } from '../reading/read-index-fields.js';
import type { Schemas } from '../schemas/schemas.js';
import { compileSchema, type SchemaValidator } from '../state/compile-schema.js';
import type { SetupStep as SetupRecord } from '../state/records.js';
import type { Store } from '../store/index.js';

/** What a plan is made from. */
export interface PlanParts {
  store: Pick<Store, 'indexes' | 'collections'>;
  schemas: Schemas;
  hooks: Hooks;
  policy: { version: number; text: string };
  /** Whether a schema can be enforced, after how many documents. */
  checkBeforeEnforcing: (
    collection: string,
    validate: SchemaValidator,
  ) => Promise<{ documents: number; problem?: Problem }>;
  /** What is said about another policy. */
  aboutPolicy: (text: string) => string;
}

/** One step, and the record that does it; none if the store stays as it is, or it cannot be done. */
export interface PlannedStep {
  step: SetupStep;
  record?: SetupRecord;
  secret?: string;
}

/** The set-up of a store as it is. */
export function readSetup({
  store,
  schemas,
  hooks,
  policy,
}: Omit<PlanParts, 'checkBeforeEnforcing' | 'aboutPolicy'>): StoreSetup {
  const indexes: StoreSetup['indexes'] = {};
  for (const { collection, fields } of store.indexes.list()) {
    (indexes[store.collections.nameOf(collection)] ??= []).push(fields);
  }
  return {
    ...(policy.version === 0 ? {} : { policy: policy.text }),
    schemas: Object.fromEntries(schemas.list().map(({ collection, mode, schema }) => [collection, { mode, schema }])),
    indexes,
    hooks: Object.fromEntries(hooks.list().map(({ name, definition }) => [name, definition])),
  };
}

/** Says what has to be done for a store to have a set-up. What it already has is left out. */
export async function planSetup(
  { setup, remove, note }: SetupForm,
  author: Author,
  parts: PlanParts,
): Promise<PlannedStep[]> {
  const present = readSetup(parts);
  const timeMs = Date.now();
  const noted = note === undefined ? {} : { note };
  return [
    ...planPolicy(
      setup,
      present,
      { kind: 'policy', timeMs, author, ...noted, ifVersion: parts.policy.version, text: '' },
      parts,
    ),
    ...(await planSchemas(setup, present, remove, { timeMs, author, ...noted }, parts)),
    ...planIndexes(setup, present, remove, timeMs, parts),
    ...planHooks(setup, present, remove, timeMs, parts),
  ];
}

function planPolicy(
  { policy }: StoreSetup,
  present: StoreSetup,
  record: Extract<SetupRecord, { kind: 'policy' }>,
  { aboutPolicy }: PlanParts,
): PlannedStep[] {
  if (policy === present.policy) return [];
  const name = 'policy';
  // A store without a policy is not made from one with a policy: an empty policy says so.
  if (policy === undefined) return [{ step: { part: 'policy', name, action: 'leave' } }];
  const action = present.policy === undefined ? 'create' : 'change';
  return [
    attempt({ part: 'policy', name, action }, () => {
      const detail = aboutPolicy(policy);
      return { record: { ...record, text: policy }, ...(detail === '' ? {} : { detail }) };
    }),
  ];
}

async function planSchemas(
  { schemas }: StoreSetup,
  present: StoreSetup,
  remove: boolean,
  common: { timeMs: number; author: Author; note?: string },
  { checkBeforeEnforcing }: PlanParts,
): Promise<PlannedStep[]> {
  const steps: PlannedStep[] = [];
  for (const [name, { mode, schema }] of Object.entries(schemas)) {
    const before = present.schemas[name];
    if (before && before.mode === mode && deepEqual(before.schema as JsonValue, schema as JsonValue)) continue;
    const step: SetupStep = { part: 'schema', name, action: before ? 'change' : 'create' };
    try {
      const validate = compileSchema(schema as JsonObject);
      if (mode === 'enforce') {
        const { documents, problem } = await checkBeforeEnforcing(name, validate);
        step.detail = `${documents} documents checked`;
        if (problem) step.problem = problem;
      }
      const record: SetupRecord = { kind: 'schema', ...common, collection: name, mode, schema: schema as JsonObject };
      steps.push(step.problem ? { step } : { step, record });
    } catch (error) {
      steps.push({ step: { ...step, problem: problemOf(error) } });
    }
  }
  for (const name of Object.keys(present.schemas)) {
    if (schemas[name]) continue;
    const record: SetupRecord = { kind: 'schema-removed', timeMs: common.timeMs, collection: name };
    steps.push(leaveOrRemove('schema', name, remove, record));
  }
  return steps;
}

function planIndexes(
  { indexes }: StoreSetup,
  present: StoreSetup,
  remove: boolean,
  timeMs: number,
  { store }: PlanParts,
): PlannedStep[] {
  const steps: PlannedStep[] = [];
  const wanted = new Set<string>();
  for (const [collection, lists] of Object.entries(indexes)) {
    for (const given of lists) {
      const planned = attempt({ part: 'index', name: `${collection} ${given}`, action: 'create' }, () => {
        const fields = readIndexFields(given).map(formatTerm).join(',');
        wanted.add(`${collection} ${fields}`);
        const documents = store.collections.get(collection)?.documents ?? 0;
        return {
          record: { kind: 'index-created', timeMs, collection, fields },
          detail: `${documents} documents to index`,
        };
      });
      const fields = planned.record?.kind === 'index-created' ? planned.record.fields : given;
      if (!present.indexes[collection]?.includes(fields)) steps.push(planned);
    }
  }
  for (const { number, collection, fields } of store.indexes.list()) {
    const name = `${store.collections.nameOf(collection)} ${fields}`;
    if (!wanted.has(name)) steps.push(leaveOrRemove('index', name, remove, { kind: 'index-removed', timeMs, number }));
  }
  return steps;
}

function planHooks(
  setup: StoreSetup,
  present: StoreSetup,
  remove: boolean,
  timeMs: number,
  { hooks }: PlanParts,
): PlannedStep[] {
  const steps: PlannedStep[] = [];
  for (const [name, definition] of Object.entries(setup.hooks)) {
    const before = present.hooks[name];
    if (before && deepEqual(before as JsonValue, definition as JsonValue)) continue;
    steps.push(
      attempt({ part: 'hook', name, action: before ? 'change' : 'create', detail: `to ${definition.url}` }, () => {
        hooks.check(definition);
        if (before) return { record: hooks.changeRecord(hooks.get(name), definition) };
        const { id, secret } = newHook();
        return { record: { kind: 'hook-created', timeMs, id, name, definition, secret }, secret };
      }),
    );
  }
  for (const { id, name } of hooks.list()) {
    if (!setup.hooks[name]) steps.push(leaveOrRemove('hook', name, remove, { kind: 'hook-removed', timeMs, id }));
  }
  return steps;
}

/** A step, with the problem that keeps it from being done. */
function attempt(step: SetupStep, make: () => { record: SetupRecord; detail?: string; secret?: string }): PlannedStep {
  try {
    const { record, detail, secret } = make();
    return {
      step: detail === undefined ? step : { ...step, detail },
      record,
      ...(secret === undefined ? {} : { secret }),
    };
  } catch (error) {
    return { step: { ...step, problem: problemOf(error) } };
  }
}

function leaveOrRemove(part: SetupStep['part'], name: string, remove: boolean, record: SetupRecord): PlannedStep {
  return remove ? { step: { part, name, action: 'remove' }, record } : { step: { part, name, action: 'leave' } };
}

function problemOf(error: unknown): Problem {
  if (error instanceof ProblemError) return error.problem;
  throw error;
}
