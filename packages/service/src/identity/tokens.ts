import type { JsonObject, JsonValue } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import {
  createRemoteJWKSet,
  decodeProtectedHeader,
  errors,
  jwtVerify,
  type JWTVerifyGetKey,
  type JWTVerifyOptions,
} from 'jose';
import type { Identity } from './identity.js';

/** How tokens of an identity provider are verified (JWT, RFC 7519). */
export interface TokenSettings {
  /** A secret shared with who makes the tokens, for HS256: at least 32 bytes. */
  secret?: string | undefined;
  /** The address of their public keys (JWK Set, RFC 7517), instead of a secret. */
  keysUrl?: string | undefined;
  /** The accepted algorithms: HS256 with a secret; by default RS256, ES256 and EdDSA with a key address. */
  algorithms?: readonly string[] | undefined;
  /** What `iss` must be. */
  issuer?: string | undefined;
  /** What `aud` must be, or contain. */
  audience?: string | undefined;
  /** The accepted clock difference, in seconds; default 30. */
  leewaySeconds?: number | undefined;
}

const PUBLIC_ALGORITHMS = ['RS256', 'ES256', 'EdDSA'];
const MIN_SECRET_BYTES = 32;

/** How long public keys are cached, and how often an unknown key id may trigger a new fetch. */
const KEYS_MAX_AGE_MS = 10 * 60_000;
const KEYS_COOLDOWN_MS = 10_000;

/** Verifies tokens of an identity provider. */
export class Tokens {
  readonly #getKey: JWTVerifyGetKey;
  readonly #options: JWTVerifyOptions;
  readonly #leewayMs: number;

  /** @throws {RangeError} when the settings are not sound */
  constructor({ secret, keysUrl, algorithms, issuer, audience, leewaySeconds = 30 }: TokenSettings) {
    if ((secret === undefined) === (keysUrl === undefined)) {
      throw new RangeError('Set either a token secret or the address of public keys.');
    }
    const known = secret === undefined ? PUBLIC_ALGORITHMS : ['HS256'];
    const wrong = (algorithms ?? []).find((name) => !known.includes(name));
    if (wrong !== undefined) {
      throw new RangeError(`The algorithm ${wrong} is not accepted. Accepted are: ${known.join(', ')}.`);
    }
    if (secret !== undefined && Buffer.byteLength(secret) < MIN_SECRET_BYTES) {
      throw new RangeError(`The secret of the tokens is too short to be safe; use at least ${MIN_SECRET_BYTES} bytes.`);
    }
    const shared = secret === undefined ? undefined : new TextEncoder().encode(secret);
    this.#getKey = shared
      ? () => shared
      : createRemoteJWKSet(new URL(keysUrl!), {
          cacheMaxAge: KEYS_MAX_AGE_MS,
          cooldownDuration: KEYS_COOLDOWN_MS,
          timeoutDuration: 5000,
        });
    this.#leewayMs = leewaySeconds * 1000;
    this.#options = {
      algorithms: [...(algorithms ?? known)],
      clockTolerance: leewaySeconds,
      requiredClaims: ['exp', 'sub'],
      ...(issuer === undefined ? {} : { issuer }),
      ...(audience === undefined ? {} : { audience }),
    };
  }

  /**
   * Identifies the subject of a token.
   *
   * @throws {ProblemError} `token-invalid`, `token-expired`, or `jwks-unavailable`
   */
  async identify(token: string): Promise<Identity> {
    try {
      const { payload } = await jwtVerify(token, this.#getKey, this.#options);
      if (typeof payload.sub !== 'string' || payload.sub === '')
        throw new errors.JWTClaimValidationFailed('sub', payload, 'sub');
      return {
        author: { kind: 'token', name: payload.sub },
        rights: { claims: payload as JsonObject },
        expiresMs: payload.exp! * 1000 + this.#leewayMs,
        origin: { id: token.slice(-20) },
      };
    } catch (error) {
      throw explain(error, token, this.#options);
    }
  }
}

/** Whether a string has the form of a token: three parts between dots, the first of which is a JSON object. */
export function looksLikeToken(text: string): boolean {
  return /^eyJ[\w-]*\.[\w-]*\.[\w-]*$/.test(text);
}

function explain(error: unknown, token: string, { algorithms, issuer, audience }: JWTVerifyOptions): Error {
  const refuse = (detail: string) => problemError('token-invalid', detail);
  if (error instanceof errors.JWTExpired) {
    const expired = new Date(Number((error.payload as { exp?: JsonValue }).exp) * 1000);
    return problemError(
      'token-expired',
      `The token expired at ${expired.toISOString()}. Get a new one from its issuer.`,
    );
  }
  if (error instanceof errors.JWTClaimValidationFailed) {
    const wanted = error.claim === 'iss' ? issuer : error.claim === 'aud' ? audience : undefined;
    const expected = wanted === undefined ? '' : ` It must be "${String(wanted)}".`;
    return refuse(`The token's "${error.claim}" is missing or wrong.${expected}`);
  }
  if (error instanceof errors.JOSEAlgNotAllowed) {
    return refuse(`The token is signed by ${algorithmOf(token)}; this store accepts ${algorithms!.join(', ')}.`);
  }
  if (error instanceof errors.JWKSNoMatchingKey)
    return refuse('The token is signed by a key that its issuer does not publish.');
  if (error instanceof errors.JWSSignatureVerificationFailed) return refuse('The signature of the token is wrong.');
  const isUnavailable =
    !(error instanceof errors.JOSEError) ||
    ['ERR_JWKS_TIMEOUT', 'ERR_JWKS_INVALID', 'ERR_JOSE_GENERIC'].includes(error.code);
  if (isUnavailable) {
    return problemError(
      'jwks-unavailable',
      'The public keys for verifying tokens are unavailable. Try again in a moment.',
    );
  }
  return refuse(`This is not a valid token: ${error.message}.`);
}

function algorithmOf(token: string): string {
  try {
    return String(decodeProtectedHeader(token).alg).slice(0, 20);
  } catch {
    return 'something else';
  }
}
