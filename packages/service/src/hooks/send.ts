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

  constructor(addresses: ReachableAddresses) {
    this.#addresses = addresses;
    const options = { keepAlive: true, maxFreeSockets: 16 };
    this.#agents = {
      'http:': new http.Agent({ ...options, lookup: this.#lookupFor('http:') }),
      'https:': new https.Agent({ ...options, lookup: this.#lookupFor('https:') }),
    };
  }

  /** Sends, and resolves with what came back within the time. Never rejects. */
  async post(address: string, { headers, body }: Post, timeoutMs: number, signal?: AbortSignal): Promise<Answer> {
    const startedMs = performance.now();
    const durationMs = () => Math.round((performance.now() - startedMs) * 10) / 10;
    try {
      const url = this.#addresses.check(address);
      const answer = await this.#request(url, headers, body, timeoutMs, signal);
      return { durationMs: durationMs(), ...answer };
    } catch (error) {
      return { durationMs: durationMs(), error: describeError(error as Error, timeoutMs), text: '' };
    }
  }

  close(): void {
    for (const agent of Object.values(this.#agents)) agent.destroy();
  }

  #request(
    url: URL,
    headers: Record<string, string>,
    body: string,
    timeoutMs: number,
    signal: AbortSignal | undefined,
  ): Promise<Omit<Answer, 'durationMs'>> {
    const { request } = url.protocol === 'https:' ? https : http;
    const agent = this.#agents[url.protocol as 'https:'];
    const bytes = Buffer.from(body);
    return new Promise((resolve, reject) => {
      const sending = request(url, {
        method: 'POST',
        agent,
        signal,
        headers: { ...headers, 'content-length': bytes.length, 'user-agent': `Uproar/${VERSION}` },
      });
      const timer = setTimeout(() => sending.destroy(new TimeoutError()), timeoutMs);
      sending.on('error', reject);
      sending.on('close', () => clearTimeout(timer));
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
