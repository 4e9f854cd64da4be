import { formatAddress, formatPointer, type Paths, type Refusal, type Write } from '@uproar/core';
import type { Misfit } from './commit-log.js';

/**
 * The violations that a writer may be told of: those that would be there without the fields concealed from them as well. A
 * violation that is there only with them would tell of their presence or their value.
 *
 * @param judgeSeen judges what the writer sees of the data
 */
export function knowable(violations: readonly Misfit[], conceal: Paths, judgeSeen: () => readonly Misfit[]): Misfit[] {
  if (conceal.length === 0) return [...violations];
  const hidden = conceal.map((path) => formatPointer([...path]));
  const seen = new Set(judgeSeen().map(nameOf));
  return violations.filter(
    (violation) =>
      seen.has(nameOf(violation)) &&
      !hidden.some((beginning) => violation.pointer === beginning || violation.pointer.startsWith(`${beginning}/`)),
  );
}

function nameOf({ pointer, rule, detail }: Misfit): string {
  return JSON.stringify([pointer, rule, detail]);
}

/**
 * Why a write is refused whose data does not fit the schema.
 *
 * @param violations those that the writer may be told of
 */
export function explainMisfit(
  { collection, id }: Write,
  currentVersion: number,
  violations: readonly Misfit[],
): Refusal {
  const [first] = violations;
  const address = formatAddress(collection, id);
  const more = violations.length > 1 ? `, and ${violations.length - 1} more` : '';
  const detail = first
    ? `${address} does not fit the schema of ${collection}: ${first.pointer || 'the data'} ${first.detail}${more}.`
    : `${address} does not fit the schema of ${collection} together with fields that are concealed from you.`;
  return {
    kind: 'schema-violation',
    collection,
    id,
    currentVersion,
    detail,
    violations: [...violations],
    ...(first ? { pointer: first.pointer } : {}),
  };
}
