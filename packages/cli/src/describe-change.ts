import type { Document } from '@uproar/client';
import { fieldChanges } from '@uproar/core';
import pc from 'picocolors';
import { formatValue } from './output.js';

/** What became of the fields of a document, on one line: `altitude 310 → 420`. */
export function describeFields(before: Document | undefined, after: Document): string {
  if (!before) {
    return Object.entries(after.data)
      .slice(0, 6)
      .map(([field, value]) => `${pc.cyan(field)} ${formatValue(value)}`)
      .join('  ');
  }
  const changes = fieldChanges(before.data, after.data);
  if (changes.length === 0) return pc.dim('written again');
  return changes
    .map(({ name, before, after }) => `${pc.cyan(name)} ${pc.dim(formatValue(before, 24))} → ${formatValue(after, 24)}`)
    .join('  ');
}
