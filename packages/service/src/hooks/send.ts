import http from 'node:http';
import https from 'node:https';
import type { LookupFunction } from 'node:net';
import { ProblemError } from '@uproar/protocol';
import { VERSION } from '../version.js';
import type { ReachableAddresses } from './reachable-addresses.js';

/** The most that is read of an answer, and that is kept of it, in bytes. */
const READ_BYTES = 64 * 1024;
const KEPT_BYTES = 1024;

/** The longest time that a receiver can ask to be left alone, in milliseconds. */
const MAX_RETRY_AFTER_MS = 3_600_000;

/** Addresses whose check is remembered. */
const MAX_CHECKED = 200;

/** Deliveries under way of all hooks together take at most about this much, in bytes. */
const MAX_UNDER_WAY_BYTES = 64 * 1024 * 1024;

/** What is posted. */
export interface Post {
  headers: Record<string, string>;
  body: string;
}

/** What came back. */
export interface Answer {
  durationMs: number;
  /** The status; undefined if there was no answer. */
  status?: number;
  /** Why there is no answer. */
  error?: string;
  /** The beginning of the body. */
  text: string;
  /** How long the receiver wants to be left alone. */
  retryAfterMs?: number;
}

/** Posts deliveries. Redirects are not followed, and only checked addresses are connected to. */
export class Sender {
  readonly #addresses: ReachableAddresses;
  readonly #agents: { 'http:': http.Agent; 'https:': https.Agent };
  /** Addresses that were checked, with their parts. */
  readonly #checked = new Map<string, http.RequestOptions>();
  #underWayBytes = 0;

  constructor(addresses: ReachableAddresses) {
    this.#addresses = addresses;
    const options = { keepAlive: true, maxFreeSockets: 16 };
    this.#agents = {
      'http:': new http.Agent({ ...options, lookup: this.#lookupFor('http:') }),
      'https:': new https.Agent({ ...options, lookup: this.#lookupFor('https:') }),
    };
  }

  /**
   * Sends, and resolves with what came back within the time. Never rejects.
   *
   * @param underWay holds the request until it has ended, so that it can be ended early
   */
  async post(
    address: string,
    { headers, body }: Post,
    timeoutMs: number,
    underWay?: Set<http.ClientRequest>,
  ): Promise<Answer> {
    this.#underWayBytes += body.length;
    const startedMs = performance.now();
    const durationMs = () => Math.round((performance.now() - startedMs) * 10) / 10;
    try {
      const answer = await this.#request(this.#check(address), headers, body, timeoutMs, underWay);
      return { durationMs: durationMs(), ...answer };
    } catch (error) {
      return { durationMs: durationMs(), error: describeError(error as Error, timeoutMs), text: '' };
    } finally {
      this.#underWayBytes -= body.length;
    }
  }

  /** Whether further deliveries must wait until some have ended. */
  get isFull(): boolean {
    return this.#underWayBytes >= MAX_UNDER_WAY_BYTES;
  }

  close(): void {
    for (const agent of Object.values(this.#agents)) agent.destroy();
  }

  /** @throws {ProblemError} `address-refused` */
  #check(address: string): http.RequestOptions {
    let checked = this.#checked.get(address);
    if (checked) return checked;
    const { protocol, hostname, port, pathname, search } = this.#addresses.check(address);
    const host = hostname.replace(/^\[|\]$/g, '');
    checked = { method: 'POST', protocol, host, path: pathname + search, ...(port === '' ? {} : { port }) };
    if (this.#checked.size >= MAX_CHECKED) this.#checked.clear();
    this.#checked.set(address, checked);
    return checked;
  }

  #request(
    target: http.RequestOptions,
    headers: Record<string, string>,
    body: string,
    timeoutMs: number,
    underWay: Set<http.ClientRequest> | undefined,
  ): Promise<Omit<Answer, 'durationMs'>> {
    const { request } = target.protocol === 'https:' ? https : http;
    const agent = this.#agents[target.protocol as 'https:'];
    const bytes = Buffer.from(body);
    return new Promise((resolve, reject) => {
      const sending = request({
        ...target,
        agent,
        headers: { ...headers, 'content-length': bytes.length, 'user-agent': `Uproar/${VERSION}` },
      });
      const timer = setTimeout(() => sending.destroy(new TimeoutError()), timeoutMs);
      sending.on('error', reject);
      sending.on('close', () => {
        clearTimeout(timer);
        underWay?.delete(sending);
      });
      underWay?.add(sending);
      sending.on('response', (response) => {
        const chunks: Buffer[] = [];
        let read = 0;
        const finish = () => {
          const retryAfterMs = readRetryAfter(response.headers['retry-after']);
          const text = Buffer.concat(chunks).subarray(0, KEPT_BYTES).toString();
          resolve({ status: response.statusCode!, text, ...(retryAfterMs === undefined ? {} : { retryAfterMs }) });
        };
        response.on('data', (chunk: Buffer) => {
          if (read < KEPT_BYTES) chunks.push(chunk);
          read += chunk.length;
          if (read <= READ_BYTES) return;
          finish();
          response.destroy();
        });
        response.on('end', finish);
        response.on('error', reject);
      });
      sending.end(bytes);
    });
  }

  /** Resolves names for connections of a protocol, to addresses that hooks may reach by it. */
  #lookupFor(protocol: string): LookupFunction {
    return (hostname, options, done) => {
      this.#addresses.addressesOf(new URL(`${protocol}//${hostname}`)).then(
        (found) => (options.all ? done(null, found) : done(null, found[0]!.address, found[0]!.family)),
        (error: Error) => done(error, ''),
      );
    };
  }
}

class TimeoutError extends Error {}

function describeError(error: Error, timeoutMs: number): string {
  if (error instanceof ProblemError) return error.message;
  if (error instanceof TimeoutError) return `The receiver did not answer within ${timeoutMs / 1000} s.`;
  return error.message === '' ? ((error as NodeJS.ErrnoException).code ?? error.name) : error.message;
}

/** `Retry-After` as seconds or as a date (RFC 9110, section 10.2.3), in milliseconds from now. */
function readRetryAfter(header: string | undefined): number | undefined {
  if (header === undefined) return undefined;
  const ms = /^\d{1,9}$/.test(header) ? Number(header) * 1000 : Date.parse(header) - Date.now();
  return Number.isNaN(ms) ? undefined : Math.min(Math.max(ms, 0), MAX_RETRY_AFTER_MS);
}
