import { randomBytes, scrypt, timingSafeEqual, type ScryptOptions } from 'node:crypto';
import { promisify } from 'node:util';
import { problemError } from '@uproar/protocol';

const derive = promisify<string, Buffer, number, ScryptOptions, Buffer>(scrypt);

/** The cost of a hash (RFC 7914): 32 MiB of memory, and some tens of milliseconds. */
const COST = { N: 2 ** 15, r: 8, p: 3 } as const;
const HASH_BYTES = 32;

/** At most this many hashes are computed at a time, to limit memory and threads; at most this many wait. */
const MAX_AT_ONCE = 2;
const MAX_WAITING = 100;

let running = 0;
const waiting: (() => void)[] = [];

/** The text under which a password is kept: the algorithm, the salt, and the hash. */
export async function hashPassword(password: string): Promise<string> {
  const salt = randomBytes(16);
  const hash = await work(password, salt, COST);
  return `scrypt$${COST.N}$${COST.r}$${COST.p}$${salt.toString('base64url')}$${hash.toString('base64url')}`;
}

/**
 * Whether a password matches the stored hash. Without a hash, it takes the same time and is false.
 *
 * @throws {ProblemError} `overloaded` when too many wait
 */
export async function verifyPassword(password: string, kept: string | undefined): Promise<boolean> {
  const [, n, r, p, salt, hash] = (kept ?? DUMMY).split('$');
  const found = await work(password, Buffer.from(salt!, 'base64url'), { N: Number(n), r: Number(r), p: Number(p) });
  return timingSafeEqual(found, Buffer.from(hash!, 'base64url')) && kept !== undefined;
}

const DUMMY = `scrypt$${COST.N}$${COST.r}$${COST.p}$${Buffer.alloc(16).toString('base64url')}$${Buffer.alloc(HASH_BYTES).toString('base64url')}`;

async function work(password: string, salt: Buffer, cost: { N: number; r: number; p: number }): Promise<Buffer> {
  if (running >= MAX_AT_ONCE) {
    if (waiting.length >= MAX_WAITING) {
      throw problemError('overloaded', 'Too many passwords are being checked. Try again in a second.');
    }
    await new Promise<void>((resolve) => waiting.push(resolve));
  } else running++;
  try {
    // Texts that look the same are the same: normalized before they are hashed.
    return await derive(password.normalize('NFKC'), salt, HASH_BYTES, { ...cost, maxmem: 256 * 1024 * 1024 });
  } finally {
    const next = waiting.shift();
    if (next) next();
    else running--;
  }
}
