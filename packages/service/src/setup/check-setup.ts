import { enableFullQueries, type JsonObject } from '@uproar/core';
import type { StoreSetup } from '@uproar/protocol';
import { prepareWireQuery } from '../reading/prepare-query.js';
import { readIndexFields } from '../reading/read-index-fields.js';
import { compileSchema } from '../state/compile-schema.js';
import { parsePolicy } from '../state/parse-policy.js';

/** A mistake in a set-up. */
export interface SetupFault {
  part: 'policy' | 'schema' | 'index' | 'hook';
  name: string;
  detail: string;
}

/** Finds the mistakes in a set-up that can be found without a store. */
export function checkSetup({ policy, schemas, indexes, hooks }: StoreSetup): SetupFault[] {
  enableFullQueries();
  const faults: SetupFault[] = [];
  const attempt = (part: SetupFault['part'], name: string, check: () => void) => {
    try {
      check();
    } catch (error) {
      faults.push({ part, name, detail: (error as Error).message });
    }
  };
  if (policy !== undefined) attempt('policy', '', () => parsePolicy(policy));
  for (const [name, { schema }] of Object.entries(schemas)) {
    attempt('schema', name, () => compileSchema(schema as JsonObject));
  }
  for (const [name, lists] of Object.entries(indexes)) {
    for (const fields of lists) attempt('index', `${name} ${fields}`, () => readIndexFields(fields));
  }
  for (const [name, { collection, where, fields, url }] of Object.entries(hooks)) {
    attempt('hook', name, () => {
      new URL(url);
      prepareWireQuery({ from: collection, where, fields, limit: 'none' }, true);
    });
  }
  return faults;
}
