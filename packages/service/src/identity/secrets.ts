import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';

/** The hash under which a secret that is long and random is kept. A plain SHA-256 suffices for those. */
export function hashSecret(secret: string): Buffer {
  return createHash('sha256').update(secret).digest();
}

/** A new secret: 192 random bits after a prefix that names its purpose. */
export function newSecret(prefix: string): string {
  return `${prefix}-${randomBytes(24).toString('base64url')}`;
}

/** The hash of a secret as a record of the log carries it. */
export function encodeHash(secret: string): string {
  return hashSecret(secret).toString('base64url');
}

/** Compares secrets in a time that does not depend on where they differ. */
export function isSameSecret(known: Buffer, given: string): boolean {
  const bytes = Buffer.from(given);
  return bytes.length === known.length && timingSafeEqual(bytes, known);
}
