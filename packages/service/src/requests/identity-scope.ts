import { seesEverything, type Access } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { formatIdentity, isGoverned, type Identity } from '../identity/identity.js';
import type { ReadScope } from '../reading/read-scope.js';
import type { ReadLimits } from '../store/index.js';
import type { Context } from './context.js';
import type { SeesAll } from '../reading/name-hints.js';

/** Tells of which collections somebody sees all. */
export function seesAllOf({ identities }: Pick<Context, 'identities'>, identity: Identity): SeesAll {
  return (collection) => seesEverything(identities.accessOf(identity, collection));
}

/**
 * What somebody may read of a collection.
 *
 * @throws {ProblemError} `not-allowed` when that is nothing, whatever is in it
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

/** Somebody, as those see them who find out what a watch shows. */
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
      // The empty name is none of those that the policy names.
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
  };
}

/** For whom what is held is counted: the identity, or the address of those who send no key. */
export function holderOf({ author }: Identity, address: string): string {
  return author.kind === 'anonymous' || author.kind === 'open' ? address : formatIdentity(author);
}
