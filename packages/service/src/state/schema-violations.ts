import { formatAddress, formatPointer, type Paths, type Refusal, type Write } from '@uproar/core';
import type { SchemaViolation } from './outcomes.js';

/**
 * The violations that a writer may see: the ones that would also exist without the fields concealed from it.
 * Others would reveal the presence or the value of a concealed field.
 *
 * @param validateVisible validates what the writer sees of the data
 */
export function visibleViolations(
  violations: readonly SchemaViolation[],
  conceal: Paths,
  validateVisible: () => readonly SchemaViolation[],
): SchemaViolation[] {
  if (conceal.length === 0) return [...violations];
  const hidden = conceal.map((path) => formatPointer([...path]));
  const seen = new Set(validateVisible().map(nameOf));
  return violations.filter(
    (violation) =>
      seen.has(nameOf(violation)) &&
      !hidden.some((beginning) => violation.pointer === beginning || violation.pointer.startsWith(`${beginning}/`)),
  );
}

function nameOf({ pointer, rule, detail }: SchemaViolation): string {
  return JSON.stringify([pointer, rule, detail]);
}

/**
 * The refusal of a write that violates the schema.
 *
 * @param violations the ones that the writer may see
 */
export function describeStoredViolation(
  { collection, id }: Write,
  currentVersion: number,
  violations: readonly SchemaViolation[],
): Refusal {
  const [first] = violations;
  const address = formatAddress(collection, id);
  const more = violations.length > 1 ? `, and ${violations.length - 1} more` : '';
  const detail = first
    ? `${address} violates the schema of ${collection}: ${first.pointer || 'the data'} ${first.detail}${more}.`
    : `${address} violates the schema of ${collection} in combination with concealed fields.`;
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
