import { seesEverything, type Access } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { formatIdentity, isGoverned, type Identity } from '../identity/identity.js';
import type { ReadScope } from '../reading/read-scope.js';
import type { ReadLimits } from '../store/index.js';
import type { Context } from './context.js';
import type { ReadsWholeCollection } from '../reading/name-hints.js';

/** Returns a function that says whether a caller sees all of a collection. */
export function wholeCollectionReader(
  { identities }: Pick<Context, 'identities'>,
  identity: Identity,
): ReadsWholeCollection {
  return (collection) => seesEverything(identities.accessOf(identity, collection));
}

/**
 * The access of a caller to a collection.
 *
 * @throws {ProblemError} `not-allowed` if it may read no document of the collection
 */
export function readableAccess(
  { identities }: Pick<Context, 'identities'>,
  identity: Identity,
  collection: string,
): Access {
  const access = identities.accessOf(identity, collection);
  if (access.read !== false) return access;
  const key = 'scope' in identity.rights;
  throw problemError(
    'not-allowed',
    key
      ? `This key has no access to the collection ${collection}.`
      : `The policy does not let you read ${collection}: its rule "read" for ${collection} is missing or not met by your claims.`,
    { rule: 'read' },
  );
}

/** The read scope of an identity. */
export function readScopeOf(
  context: Pick<Context, 'identities' | 'accessLimits' | 'budgets'>,
  identity: Identity,
  holder: string,
): ReadScope {
  const { identities } = context;
  return {
    accessTo: (collection) => readableAccess(context, identity, collection),
    effectiveAccess: (collection) => identities.accessOf(identity, collection),
    get key() {
      if (!isGoverned(identity)) return JSON.stringify(identity.rights);
      // No policy names the empty collection, so this gives the default rules.
      const names = [...identities.policy.collections.keys(), ''];
      return JSON.stringify(
        names.map((name) => {
          const { read, conceal } = identities.accessOf(identity, name);
          return [name, typeof read === 'boolean' ? read : 'some', conceal.length > 0];
        }),
      );
    },
    get named() {
      return isGoverned(identity) ? identities.policy.collections.keys() : [];
    },
    limits: { ...costLimits(context, identity, holder), bytes: context.budgets.watchBytes, whole: true },
    holder,
    identity: formatIdentity(identity.author),
  };
}

/** What one query may use. Keys may read all documents there are. */
export function costLimits(
  { accessLimits, budgets }: Pick<Context, 'accessLimits' | 'budgets'>,
  identity: Identity,
  holder: string,
): ReadLimits {
  return {
    ...(isGoverned(identity) ? { documents: accessLimits.documentsRead } : {}),
    bytes: budgets.resultBytes,
    work: budgets.queryWork,
    holder,
    identity: formatIdentity(identity.author),
  };
}

/** The holder that memory is counted for: the identity, or the address of callers without a key. */
export function limitHolder({ author }: Identity, address: string): string {
  return author.kind === 'anonymous' || author.kind === 'open' ? address : formatIdentity(author);
}
