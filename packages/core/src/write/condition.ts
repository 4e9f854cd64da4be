import type { Document } from '../document/document.js';
import { formatAddress, type Condition, type Read, type Refusal, type Write } from './commit.js';

/** The first of the documents that were read which is not as it was; `current` gives each as it is now. */
export function findStaleRead(
  reads: readonly Read[],
  current: (collection: string, id: string) => Document | undefined,
): { refusal: Refusal; read: number } | undefined {
  for (const [index, { collection, id, version }] of reads.entries()) {
    const currentVersion = current(collection, id)?.version ?? 0;
    if (currentVersion === version) continue;
    const was = version === 0 ? 'did not exist' : `had version ${version}`;
    const is = currentVersion === 0 ? 'does not exist' : `has version ${currentVersion}`;
    const detail = `${formatAddress(collection, id)} ${was} when it was read, and now ${is}. Read it again, then retry.`;
    return {
      read: index,
      refusal: { kind: 'version-mismatch', collection, id, currentVersion, expectedVersion: version, detail },
    };
  }
  return undefined;
}

/**
 * The unmet part of a condition, in words that follow the address of a document; undefined if the condition is met.
 */
export function describeUnmet(condition: Condition, current: Document | undefined): string | undefined {
  const version = current?.version ?? 0;
  const state = current ? `has version ${version}` : 'does not exist';
  if (condition.exists === true && !current) return 'was expected to exist, but does not';
  if (condition.exists === false && current) return `was expected not to exist, but has version ${version}`;
  if (condition.versionIn && !condition.versionIn.includes(version)) {
    return `was expected to have version ${condition.versionIn.join(' or ') || '(none)'}, but ${state}`;
  }
  if (condition.versionNotIn && current && condition.versionNotIn.includes(version)) {
    return `was expected not to have version ${version}, but has`;
  }
  return undefined;
}

/** The refusal of a write whose condition is not met; undefined if it is. */
export function refuseUnmet(current: Document | undefined, write: Write): Refusal | undefined {
  const { collection, id, condition } = write;
  const unmet = condition && describeUnmet(condition, current);
  if (unmet === undefined) return undefined;
  const [expectedVersion] = condition?.versionIn?.length === 1 ? condition.versionIn : [];
  return {
    kind: 'version-mismatch',
    collection,
    id,
    currentVersion: current?.version ?? 0,
    detail: `${formatAddress(collection, id)} ${unmet}. Read it again, then retry.`,
    ...(expectedVersion === undefined ? {} : { expectedVersion }),
  };
}
