import { ConnectionError } from './link.js';
import type { StoreAccess } from '../store-access.js';

/** One step of a connection check, and its result. */
export interface CheckStep {
  step: 'address' | 'key' | 'live' | 'clock';
  ok: boolean;
  detail: string;
}

/** Clocks that differ by more make times and tokens go wrong. */
const MAX_CLOCK_DIFFERENCE_MS = 60_000;

/**
 * Checks the connection to a store step by step; stops at the first failing step.
 *
 * @param helloAt when the service reported its time, by the local clock, in milliseconds since 1970
 * @param overHttp whether the connection uses HTTP instead of a WebSocket
 * @param hasToken whether a key or a token is sent
 */
export async function checkConnection(
  store: StoreAccess,
  helloAt: () => number,
  overHttp: () => boolean,
  hasToken: boolean,
): Promise<CheckStep[]> {
  const steps: CheckStep[] = [];
  const walk: [CheckStep['step'], () => Promise<string> | string][] = [
    [
      'address',
      async () => {
        const { status } = await store.fetch<{ status?: string }>('/healthz').catch((error: unknown) => {
          if (error instanceof SyntaxError) return { status: undefined };
          throw error;
        });
        if (status !== 'ok') throw new ConnectionError(`${store.url} answers, but it is not an Uproar store.`);
        return `a store answers at ${store.url}`;
      },
    ],
    [
      'key',
      async () => {
        await store.fetch('/v1/collections');
        return hasToken ? 'the key is accepted' : 'no key is needed';
      },
    ],
    [
      'live',
      async () => {
        await store.ready();
        return overHttp() ? 'WebSockets are blocked; requests and event streams work' : 'live connections work';
      },
    ],
    [
      'clock',
      async () => {
        const { time } = await store.ready();
        return compareClocks(helloAt() - Date.parse(time));
      },
    ],
  ];
  for (const [step, go] of walk) {
    try {
      steps.push({ step, ok: true, detail: await go() });
    } catch (error) {
      steps.push({ step, ok: false, detail: error instanceof Error ? error.message : String(error) });
      break;
    }
  }
  return steps;
}

function compareClocks(differenceMs: number): string {
  const seconds = Math.round(Math.abs(differenceMs) / 1000);
  if (Math.abs(differenceMs) <= MAX_CLOCK_DIFFERENCE_MS) return `the clocks differ by ${seconds} s`;
  const direction = differenceMs > 0 ? 'ahead of' : 'behind';
  throw new RangeError(`The clock of this device is ${seconds} s ${direction} the store; correct it.`);
}
