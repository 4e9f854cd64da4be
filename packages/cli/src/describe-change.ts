import type { Document, JsonValue } from '@uproar/client';
import { diff, parsePointer, valueAt } from '@uproar/core';
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
  const fields = diff(before.data, after.data).map(({ path }) =>
    parsePointer(path).filter((token) => !/^\d+$/.test(token)),
  );
  const names = [...new Map(fields.map((tokens) => [tokens.join('.'), tokens]))].filter(([name]) => name !== '');
  const shown = names.length > 0 ? names : Object.keys(after.data).map((name): [string, string[]] => [name, [name]]);
  const changed = shown.filter(([, tokens]) => !same(valueAt(before.data, tokens), valueAt(after.data, tokens)));
  if (changed.length === 0) return pc.dim('written again');
  return changed
    .map(([name, tokens]) => {
      const was = formatValue(valueAt(before.data, tokens), 24);
      const is = formatValue(valueAt(after.data, tokens), 24);
      return `${pc.cyan(name)} ${pc.dim(was)} → ${is}`;
    })
    .join('  ');
}

function same(a: JsonValue | undefined, b: JsonValue | undefined): boolean {
  return JSON.stringify(a) === JSON.stringify(b);
}
