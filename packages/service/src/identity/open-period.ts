import type { Identities } from './identities.js';

/**
 * Tells how long a store still stands open: at once, whenever half of the time has gone, a minute before the end, and at the end.
 *
 * @param tell gets the milliseconds that are left; 0 when it is closed
 * @returns stops it
 */
export function countDownOpenPeriod(identities: Identities, tell: (leftMs: number) => void): () => void {
  let timer: NodeJS.Timeout | undefined;
  const step = () => {
    const untilMs = identities.openUntilMs();
    const leftMs = untilMs === undefined ? 0 : untilMs - Date.now();
    tell(leftMs);
    if (leftMs === 0) return;
    timer = setTimeout(step, leftMs > 120_000 ? leftMs / 2 : leftMs > 61_000 ? leftMs - 60_000 : leftMs + 20).unref();
  };
  // Whoever has just started the store hears of it first.
  const first = identities.openUntilMs() === undefined ? undefined : setImmediate(step);
  return () => {
    clearImmediate(first);
    clearTimeout(timer);
  };
}
