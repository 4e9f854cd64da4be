import { problemError } from '@uproar/protocol';
import { RateLimiterMemory, RateLimiterRes } from 'rate-limiter-flexible';
import { formatIdentity, isGoverned, type Identity } from './identity.js';

/** How much may be asked in how long. */
export interface Quota {
  requests: number;
  seconds: number;
}

/** The quotas of a service. */
export interface RateLimits {
  /** For each identity that the policy governs. Keys are for servers, and have none. */
  identity: Quota;
  /** For each address, all who ask from there together, keys apart. */
  address: Quota;
  /** For failed attempts to be recognised, for each address. */
  failures: Quota;
}

export const DEFAULT_RATE_LIMITS: RateLimits = {
  identity: { requests: 1000, seconds: 10 },
  address: { requests: 10_000, seconds: 10 },
  failures: { requests: 100, seconds: 60 },
};

/** The quota that is left after a request, for its headers. */
export interface RateState {
  quota: Quota;
  left: number;
  resetSeconds: number;
}

/** The most addresses that failures are looked up for separately. */
const MAX_FAILING = 100_000;

/** Limits how often an identity or address may send requests. */
export class RateLimiter {
  limits: RateLimits = DEFAULT_RATE_LIMITS;
  #identity = limiter(this.limits.identity);
  #address = limiter(this.limits.address);
  #failures = limiter(this.limits.failures);
  /** Addresses with failures. When it is full, every address counts as one of them. */
  readonly #failing = new Set<string>();

  constructor(limits: Partial<RateLimits> = {}) {
    this.set(limits);
  }

  /** Applies new quotas. The counts of a changed quota start again. */
  set(limits: Partial<RateLimits>): void {
    const { identity, address, failures } = this.limits;
    this.limits = { ...DEFAULT_RATE_LIMITS, ...limits };
    if (!isSame(this.limits.identity, identity)) this.#identity = limiter(this.limits.identity);
    if (!isSame(this.limits.address, address)) this.#address = limiter(this.limits.address);
    if (!isSame(this.limits.failures, failures)) this.#failures = limiter(this.limits.failures);
  }

  /**
   * Counts a request. Nothing is counted for keys.
   *
   * @throws {ProblemError} `too-many-requests`
   */
  async count(identity: Identity, address: string): Promise<RateState | undefined> {
    if (!isGoverned(identity) && identity.author.kind === 'key') return undefined;
    await consume(this.#address, this.limits.address, address);
    if (identity.author.kind === 'anonymous' || identity.author.kind === 'open') return undefined;
    return consume(this.#identity, this.limits.identity, formatIdentity(identity.author));
  }

  /**
   * Counts a request without authentication.
   *
   * @throws {ProblemError} `too-many-requests`
   */
  async countAddress(address: string): Promise<void> {
    await consume(this.#address, this.limits.address, address);
  }

  /** Counts an attempt to be recognised that failed. */
  async countFailure(address: string): Promise<void> {
    if (this.#failing.size < MAX_FAILING) this.#failing.add(address);
    await this.#failures.consume(address).catch(() => undefined);
  }

  /** Whether {@link checkFailures} could refuse an address. Mostly it cannot. */
  mayHaveFailed(address: string): boolean {
    return this.#failing.size >= MAX_FAILING || this.#failing.has(address);
  }

  /**
   * Refuses an address from which too many attempts have failed.
   *
   * @throws {ProblemError} `too-many-requests`
   */
  async checkFailures(address: string): Promise<void> {
    if (!this.mayHaveFailed(address)) return;
    const state = await this.#failures.get(address);
    if (!state) this.#failing.delete(address);
    if (state && state.consumedPoints > this.limits.failures.requests) {
      throw tooMany(state.msBeforeNext, 'Too many attempts from your address have failed.', this.limits.failures);
    }
  }
}

function isSame(a: Quota, b: Quota): boolean {
  return a.requests === b.requests && a.seconds === b.seconds;
}

function limiter({ requests, seconds }: Quota): RateLimiterMemory {
  return new RateLimiterMemory({ points: requests, duration: seconds });
}

/**
 * Takes one from a quota.
 *
 * @throws {ProblemError} `too-many-requests`
 */
async function consume(from: RateLimiterMemory, quota: Quota, name: string): Promise<RateState> {
  try {
    const { remainingPoints, msBeforeNext } = await from.consume(name);
    return { quota, left: remainingPoints, resetSeconds: Math.ceil(msBeforeNext / 1000) };
  } catch (error) {
    if (!(error instanceof RateLimiterRes)) throw error;
    throw tooMany(error.msBeforeNext, `At most ${quota.requests} requests are allowed in ${quota.seconds} s.`, quota);
  }
}

function tooMany(waitMs: number, reason: string, quota: Quota): Error {
  const retryAfter = Math.max(1, Math.ceil(waitMs / 1000));
  return problemError('too-many-requests', `${reason} Try again in ${retryAfter} s.`, {
    retryAfter,
    quota: quota.requests,
  });
}

/** How many wrong passwords are taken, by whom and from where. */
const SIGN_IN_QUOTAS = {
  /** One account from one address. */
  both: { requests: 10, seconds: 15 * 60 },
  account: { requests: 100, seconds: 15 * 60 },
  address: { requests: 50, seconds: 15 * 60 },
} as const;

/** New accounts and guests from one address. */
const SIGN_UP_QUOTA: Quota = { requests: 200, seconds: 3600 };

/** Limits password guessing. Unknown names count like known ones. */
export class SignInThrottle {
  readonly #signUps = limiter(SIGN_UP_QUOTA);
  readonly #limiters = Object.entries(SIGN_IN_QUOTAS).map(([kind, quota]) => ({
    kind,
    quota,
    limiter: limiter(quota),
  }));

  /**
   * Counts an attempt before the password is checked, so that concurrent attempts are counted, too. {@link
   * countSuccess} takes a successful one back.
   *
   * @throws {ProblemError} `too-many-requests` when too many attempts have failed
   */
  async begin(name: string, address: string): Promise<void> {
    for (const { kind, quota, limiter: one } of this.#limiters) {
      try {
        await one.consume(nameFor(kind, name, address));
      } catch (error) {
        if (!(error instanceof RateLimiterRes)) throw error;
        throw tooMany(error.msBeforeNext, 'Too many sign-ins have failed.', quota);
      }
    }
  }

  /** @throws {ProblemError} `too-many-requests` when too many accounts have been made from an address */
  async countSignUp(address: string): Promise<void> {
    await consume(this.#signUps, SIGN_UP_QUOTA, address);
  }

  /** A correct password clears the count for this account from this address, and takes back its own attempt. */
  async countSuccess(name: string, address: string): Promise<void> {
    for (const { kind, limiter: one } of this.#limiters) {
      if (kind === 'both') await one.delete(nameFor(kind, name, address));
      else await one.reward(nameFor(kind, name, address));
    }
  }
}

function nameFor(kind: string, name: string, address: string): string {
  return kind === 'both' ? `${name}\n${address}` : kind === 'account' ? name : address;
}
