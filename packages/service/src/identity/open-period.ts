import type { Identities } from './identities.js';

/**
 * Reports the remaining open period: at once, at each half of the remaining time, a minute before the end, and at the
 * end.
 *
 * @param onTick called with the remaining milliseconds; 0 at the end
 * @returns stops the reports
 */
export function countDownOpenPeriod(identities: Identities, onTick: (leftMs: number) => void): () => void {
  let timer: NodeJS.Timeout | undefined;
  const step = () => {
    const untilMs = identities.openUntilMs();
    const leftMs = untilMs === undefined ? 0 : untilMs - Date.now();
    onTick(leftMs);
    if (leftMs === 0) return;
    timer = setTimeout(step, leftMs > 120_000 ? leftMs / 2 : leftMs > 61_000 ? leftMs - 60_000 : leftMs + 20).unref();
  };
  // The first report comes after the start has been printed.
  const first = identities.openUntilMs() === undefined ? undefined : setImmediate(step);
  return () => {
    clearImmediate(first);
    clearTimeout(timer);
  };
}
