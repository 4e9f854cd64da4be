import type { View } from '@uproar/client';
import { splitName } from '@uproar/core';
import { findFields, valueAt } from '../table/fields';
import type { Vocabulary } from './language';

/** The number of documents that suggested values are taken from. */
const SAMPLE = 2000;
const MOST_VALUES = 40;

/** What the documents of a view have to complete a condition with. Objects are named with their members. */
export function vocabularyOf(view: View | undefined): Vocabulary {
  const documents = (view?.documents ?? []).slice(0, SAMPLE);
  const objects = new Set(
    findFields(documents, new Set())
      .filter(({ type }) => type === 'object')
      .map(({ name }) => name),
  );
  const fields = findFields(documents, objects).map(({ name, type }) => ({ name, type }));
  return {
    fields: [
      ...fields,
      ...['id', 'version', 'created', 'updated', 'expires'].map((name) => ({
        name: `meta('${name}')`,
        type: 'metadata',
      })),
    ],
    valuesOf: (name) => {
      const path = pathOf(name);
      const counts = new Map<string | number | boolean, number>();
      for (const { data } of documents) {
        const value = valueAt(data, path);
        if (value === undefined || value === null || typeof value === 'object') continue;
        if (typeof value === 'string' && value.length > 60) continue;
        counts.set(value, (counts.get(value) ?? 0) + 1);
      }
      return [...counts]
        .sort(([, a], [, b]) => b - a)
        .slice(0, MOST_VALUES)
        .map(([value]) => value);
    },
  };
}

function pathOf(name: string): string[] {
  try {
    return splitName(name);
  } catch {
    return [];
  }
}
