import { formatTime, type Author, type Claims, type JsonObject, type Rights } from '@uproar/core';
import type { SelfDescription } from '@uproar/protocol';

/** Who is asking, and by what right. */
export interface Identity {
  readonly author: Author & { readonly kind: Exclude<Author['kind'], 'expiry' | 'presence'> };
  readonly rights: Rights;
  /** The claims, if the policy may use them. */
  readonly claims?: Claims;
  /** When the identity must be checked again, in milliseconds since 1970. */
  readonly expiresMs?: number | undefined;
  /** When the token itself ends. */
  readonly sessionUntilMs?: number | undefined;
  /** The credential that the identity comes from, to check whether it is still valid. */
  readonly origin: { readonly id: string; readonly proof?: string };
}

/** How an identity is written where people read it: `account:0190…`. */
export function formatIdentity({ kind, name }: Author): string {
  return name === '' ? kind : `${kind}:${name}`;
}

/** Whether an identity may administer the store. */
export function mayAdminister({ rights }: Identity): boolean {
  return 'scope' in rights && rights.scope === 'admin';
}

/** Whether an identity may read metrics over all collections. */
export function mayReadMetrics({ rights }: Identity): boolean {
  return 'scope' in rights && rights.collections === undefined;
}

/** Whether an identity is subject to the policy. */
export function isGoverned({ rights }: Identity): boolean {
  return 'claims' in rights;
}

/**
 * Separates the commit ids of a key from those of an earlier key with the same name; undefined for other identities.
 */
export function idSpaceOf({ author, origin }: Identity): string | undefined {
  return author.kind === 'key' ? origin.id : undefined;
}

/**
 * Whether something may be hidden from an identity: by the policy, or because its key is restricted to some
 * collections.
 */
export function isRestricted(identity: Identity): boolean {
  const { rights } = identity;
  return isGoverned(identity) || ('scope' in rights && rights.collections !== undefined);
}

/** An identity as it is described to its owner. */
export function describeIdentity({ author, rights, claims, expiresMs }: Identity): SelfDescription {
  return {
    ...author,
    ...('scope' in rights
      ? { scope: rights.scope, ...(rights.collections ? { collections: [...rights.collections] } : {}) }
      : {}),
    ...(claims ? { claims: claims as JsonObject } : {}),
    ...(expiresMs === undefined ? {} : { expires: formatTime(expiresMs) }),
  };
}
