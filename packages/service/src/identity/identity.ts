import { formatTime, type Author, type Claims, type JsonObject, type Rights } from '@uproar/core';
import type { SelfDescription } from '@uproar/protocol';

/** Who is asking, and by what right. */
export interface Identity {
  readonly author: Author;
  readonly rights: Rights;
  /** What is known of them, where the policy may ask for it. */
  readonly claims?: Claims;
  /** When it must be looked at again, in milliseconds since 1970. */
  readonly expiresMs?: number | undefined;
  /** When the token itself ends. */
  readonly sessionUntilMs?: number | undefined;
  /** What it was recognised by, for whoever must tell whether it still holds. */
  readonly origin: { readonly id: string; readonly proof?: string };
}

/** How an identity is written where people read it: `account:0190…`. */
export function formatIdentity({ kind, name }: Author): string {
  return name === '' ? kind : `${kind}:${name}`;
}

/** Tells whether an identity may administer the store. */
export function mayAdminister({ rights }: Identity): boolean {
  return 'scope' in rights && rights.scope === 'admin';
}

/** Tells whether an identity may read what is counted over all collections. */
export function mayReadMetrics({ rights }: Identity): boolean {
  return 'scope' in rights && rights.collections === undefined;
}

/** Tells whether a policy decides what an identity may do. */
export function isGoverned({ rights }: Identity): boolean {
  return 'claims' in rights;
}

/** What tells the commit ids of a key from those of an earlier key of its name; undefined for others. */
export function idSpaceOf({ author, origin }: Identity): string | undefined {
  return author.kind === 'key' ? origin.id : undefined;
}

/** Tells whether there is something that an identity may not see: by the policy, or because its key is for some collections. */
export function isRestricted(identity: Identity): boolean {
  const { rights } = identity;
  return isGoverned(identity) || ('scope' in rights && rights.collections !== undefined);
}

/** An identity as it is told to whoever has it. */
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
