import type { ConnectionState } from './link.js';

/** A connection that is lost for longer than this is reported, in milliseconds. */
const LOST_MS = 3000;

/** What a page can tell about itself. */
export interface PageState {
  /** The protocol of its address: `https:`. */
  protocol: string;
  /** Whether the device has a network. */
  onLine: boolean;
  /** Whether a service worker answers requests of the page. */
  serviceWorker: boolean;
}

const warned = new Set<string>();

/**
 * Writes to the console of a browser what is wrong with the connection and what to do about it; each message once, and only if
 * it lasts.
 *
 * @param store its address, and the state of the connection, which may be another one later
 */
export async function warnOf(store: { readonly url: string; readonly state: ConnectionState }): Promise<void> {
  if (store.state.name === 'offline') await new Promise((resolve) => setTimeout(resolve, LOST_MS));
  const { location, navigator } = globalThis as unknown as {
    location: { protocol: string };
    navigator: { onLine: boolean; serviceWorker?: { controller: unknown } };
  };
  const message = adviceFor(store.state, store.url, {
    protocol: location.protocol,
    onLine: navigator.onLine,
    serviceWorker: Boolean(navigator.serviceWorker?.controller),
  });
  if (message === undefined || warned.has(message)) return;
  warned.add(message);
  // eslint-disable-next-line no-console
  console.warn(`Uproar: ${message}`);
}

/** What is wrong with the connection and what to do about it; undefined if nothing is. */
export function adviceFor(state: ConnectionState, url: string, page: PageState): string | undefined {
  if (state.name === 'refused') return `${state.problem.title}. ${state.problem.detail}`;
  if (state.name !== 'offline') return undefined;
  if (!page.onLine) {
    return 'This device has no network. Views show the last known state; writes wait, and are sent when there is a network again.';
  }
  if (page.protocol === 'https:' && url.startsWith('http:')) {
    return `A page over HTTPS cannot reach ${url}. Serve the store over HTTPS, with --tls-cert or behind a proxy.`;
  }
  if (state.reason.includes('not an Uproar store')) {
    const who = page.serviceWorker ? 'The service worker of this page' : 'A proxy or another program';
    return `${state.reason} ${who} may answer in its place; requests to /v1/ must reach the store.`;
  }
  return `No store answers at ${url} (${state.reason}) Check that it runs and that the address is right: uproar doctor --url ${url}. The client tries again by itself.`;
}
