import type { TypedDocument } from '@uproar/client';
import { fieldChanges, type JsonObject } from '@uproar/core';
import pc from 'picocolors';
import { formatValue } from './output.js';

/** What became of the fields of a document, on one line: `altitude 310 → 420`. */
export function describeFields(before: TypedDocument | undefined, after: TypedDocument): string {
  if (!before) {
    return Object.entries(after.data)
      .slice(0, 6)
      .map(([field, value]) => `${pc.cyan(field)} ${formatValue(value)}`)
      .join('  ');
  }
  const changes = [
    ...fieldChanges(before.data, after.data),
    ...fieldChanges(relatedOf(before), relatedOf(after)).map((change) => ({ ...change, name: `→ ${change.name}` })),
  ];
  if (changes.length === 0) return pc.dim('written again');
  return changes
    .map(({ name, before, after }) => `${pc.cyan(name)} ${pc.dim(formatValue(before, 24))} → ${formatValue(after, 24)}`)
    .join('  ');
}

/** The related documents in a form for one line: the data of one, the ids of several. */
function relatedOf({ related = {} }: TypedDocument): JsonObject {
  return Object.fromEntries(
    Object.entries(related).map(([name, found]) => [
      name,
      Array.isArray(found) ? found.map(({ id }) => id) : (found?.data ?? null),
    ]),
  );
}
