import { formatBytes } from '@uproar/core';
import { SingleBar } from 'cli-progress';

/** How a rate is printed: per second. */
const RATES = {
  bytes: (rate: number) => `${formatBytes(rate)}/s`,
  documents: (rate: number) => `${Math.round(rate)} documents/s`,
};

/** The rate covers the last milliseconds, this many. */
const WINDOW_MS = 4000;

/** A progress bar on standard error with the rate and the time that is left, where that is a terminal; elsewhere nothing. */
export class ProgressBar {
  readonly #bar: SingleBar;
  readonly #rateOf: keyof typeof RATES | undefined;
  #seen: { timeMs: number; amount: number }[] = [];
  #started = false;

  /**
   * @param tail the text after the bar, with names in braces for the values given to {@link update}
   * @param rateOf the value of {@link update} whose rate is shown
   */
  constructor(tail: string, rateOf?: keyof typeof RATES) {
    this.#rateOf = rateOf;
    this.#bar = new SingleBar({
      format: `{bar} {percentage}%  ${tail}  {rate}{eta_formatted} left`,
      stream: process.stderr,
      hideCursor: true,
      clearOnComplete: true,
      barsize: 24,
    });
  }

  /** Shows how far it is. A total of 0 is one that is not known, and shows nothing. */
  update(done: number, total: number, payload: Record<string, string | number>, amount = done): void {
    if (total === 0) return;
    const shown = { ...payload, rate: this.#rate(amount) };
    if (this.#started) this.#bar.update(done, shown);
    else this.#bar.start(total, done, shown);
    this.#started = true;
  }

  stop(): void {
    if (this.#started) this.#bar.stop();
    this.#started = false;
  }

  #rate(amount: number): string {
    if (this.#rateOf === undefined) return '';
    const now = performance.now();
    this.#seen = [...this.#seen.filter(({ timeMs }) => timeMs > now - WINDOW_MS), { timeMs: now, amount }];
    const [first] = this.#seen;
    const seconds = (now - first!.timeMs) / 1000;
    return seconds < 0.2 ? '' : `${RATES[this.#rateOf]((amount - first!.amount) / seconds)}  `;
  }
}
