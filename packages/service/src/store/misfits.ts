import { formatAddress, formatPointer, type Paths, type Refusal, type Write } from '@uproar/core';
import type { Misfit } from './commit-log.js';

/** Of what does not fit, that which its writer may know of. */
export function withoutConcealed(misfits: readonly Misfit[], conceal: Paths): Misfit[] {
  const hidden = conceal.map((path) => formatPointer([...path]));
  return misfits.filter(
    ({ pointer }) => !hidden.some((beginning) => pointer === beginning || pointer.startsWith(`${beginning}/`)),
  );
}

/** Why a write is refused whose data does not fit the schema. */
export function explainMisfit(
  { collection, id }: Write,
  currentVersion: number,
  misfits: readonly Misfit[],
  conceal: Paths,
): Refusal {
  const violations = withoutConcealed(misfits, conceal);
  const [first] = violations;
  const address = formatAddress(collection, id);
  const more = violations.length > 1 ? `, and ${violations.length - 1} more` : '';
  const detail = first
    ? `${address} does not fit the schema of ${collection}: ${first.pointer || 'the data'} ${first.detail}${more}.`
    : `${address} does not fit the schema of ${collection} in fields that are concealed from you.`;
  return {
    kind: 'schema-violation',
    collection,
    id,
    currentVersion,
    detail,
    violations,
    ...(first ? { pointer: first.pointer } : {}),
  };
}
