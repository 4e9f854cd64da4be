import { createHmac, timingSafeEqual } from 'node:crypto';
import { problemError } from '@uproar/protocol';
import type { Reads } from '../store/index.js';

/** The default and the maximum lifetime of a signed link: five minutes and a week, in seconds. */
export const LINK_SECONDS = { usual: 300, most: 604_800 } as const;

/** Signs addresses, so that anyone who has them can read the content until they expire. */
export class SignedLinks {
  readonly #secret: Buffer;

  constructor(reads: Reads) {
    const secret = reads.values<[], string>("SELECT value FROM store WHERE name = 'link-secret'").get()!;
    this.#secret = Buffer.from(secret, 'base64url');
  }

  /** The parameters that make an address a signed one. */
  sign(path: string, expiresMs: number): string {
    const expires = Math.floor(expiresMs / 1000);
    return `expires=${expires}&signature=${this.#signatureOf(path, expires).toString('base64url')}`;
  }

  /**
   * Checks the parameters of an address.
   *
   * @throws {ProblemError} `ticket-invalid`
   */
  check(path: string, parameters: Record<string, unknown>): void {
    const { expires, signature } = parameters;
    const given = Buffer.from(String(signature), 'base64url');
    const wanted = this.#signatureOf(path, Number(expires));
    const good = given.length === wanted.length && timingSafeEqual(given, wanted);
    if (good && Number(expires) * 1000 > Date.now()) return;
    throw problemError(
      'ticket-invalid',
      good ? 'This link has expired. Get another with POST to …/link.' : 'This link is not signed by this store.',
      { parameter: 'signature' },
    );
  }

  #signatureOf(path: string, expires: number): Buffer {
    return createHmac('sha256', this.#secret).update(`${expires} ${path}`).digest();
  }
}
