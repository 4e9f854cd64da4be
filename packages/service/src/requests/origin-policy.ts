import type { IncomingHttpHeaders } from 'node:http';
import { isIP } from 'node:net';
import { problemError } from '@uproar/protocol';

/** Names of this machine itself, as origins have them. */
const LOOPBACK = /^(?:localhost|127(?:\.\d{1,3}){3}|\[::1\])$/;

/** A refused origin is reported once in this time, in milliseconds; so many origins are remembered. */
const REPORT_EVERY_MS = 60_000;
const MAX_REPORTED = 100;

/** Keeps pages of other sites from using the store with the rights of their visitors. */
export class OriginPolicy {
  /** Called with an origin that was refused, once a minute for each. */
  onRefused: ((origin: string) => void) | undefined;
  readonly #reported = new Map<string, number>();
  #origins: ReadonlySet<string> = new Set();
  #any = false;
  readonly #anyHost: boolean;
  readonly #isOpen: () => boolean;

  /**
   * @param origins the origins whose pages may use the store, besides its own: `https://board.example`; `*` for all
   * @param anyHost whether an open store answers under any host name
   * @param isOpen whether the store is open now; then pages served by this machine may use it
   * @throws {RangeError} for an invalid origin
   */
  constructor(origins: readonly string[] = [], anyHost = false, isOpen: () => boolean = () => false) {
    this.#anyHost = anyHost;
    this.#isOpen = isOpen;
    this.setOrigins(origins);
  }

  /**
   * Applies new allowed origins.
   *
   * @throws {RangeError} for an invalid origin
   */
  setOrigins(origins: readonly string[]): void {
    this.#origins = new Set(origins.filter((origin) => origin !== '*').map(readOrigin));
    this.#any = origins.includes('*');
  }

  /** Whether pages of an origin other than the store's own may use the store. */
  allowsOthers(origin: string): boolean {
    if (this.#any || this.#origins.has(origin)) return true;
    return this.#isOpen() && LOOPBACK.test(URL.canParse(origin) ? new URL(origin).hostname : '');
  }

  /** Whether pages of an origin may use the store. */
  allows(origin: string, host: string | undefined): boolean {
    if (this.allowsOthers(origin)) return true;
    try {
      return host !== undefined && new URL(origin).host === host.toLowerCase();
    } catch {
      return false;
    }
  }

  /**
   * Refuses what a page of another site sends. Programs send no origin.
   *
   * @throws {ProblemError} `origin-refused`
   */
  checkOrigin({ origin, host }: IncomingHttpHeaders): void {
    if (origin === undefined || this.allows(origin, host)) return;
    this.#report(origin.slice(0, 200));
    throw problemError(
      'origin-refused',
      `Pages of ${origin.slice(0, 200)} may not use this store. To allow them, start it with --allow-origin ${origin.slice(0, 200)}.`,
      { parameter: 'Origin' },
    );
  }

  #report(origin: string): void {
    const nowMs = Date.now();
    if (nowMs - (this.#reported.get(origin) ?? -Infinity) < REPORT_EVERY_MS) return;
    if (this.#reported.size >= MAX_REPORTED) this.#reported.clear();
    this.#reported.set(origin, nowMs);
    this.onRefused?.(origin);
  }

  /**
   * During the open period, the store answers only under addresses of this machine. Otherwise another site could point
   * its host name here and make its page appear to be of this origin.
   *
   * @throws {ProblemError} `origin-refused`
   */
  checkHost({ host }: IncomingHttpHeaders): void {
    const name = (host ?? '').replace(/:\d+$/, '').replace(/^\[(.*)\]$/, '$1');
    if (this.#anyHost || name === 'localhost' || isIP(name) !== 0) return;
    throw problemError(
      'origin-refused',
      `During the open period, the store does not answer under the name "${name}".`,
      {
        parameter: 'Host',
      },
    );
  }
}

function readOrigin(text: string): string {
  try {
    const { origin } = new URL(text);
    if (origin !== 'null' && origin === text.toLowerCase().replace(/\/$/, '')) return origin;
  } catch {
    // Refused below.
  }
  throw new RangeError(
    `"${text}" is not an origin; write it like https://board.example or http://localhost:8080, or "*".`,
  );
}
