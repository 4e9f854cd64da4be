import { SingleBar } from 'cli-progress';

/** A progress bar on standard error, where that is a terminal; elsewhere nothing. */
export class ProgressBar {
  readonly #bar: SingleBar;
  #started = false;

  /** @param tail what stands behind the bar, with names in braces for what {@link update} gives */
  constructor(tail: string) {
    this.#bar = new SingleBar({
      format: `{bar} {percentage}%  ${tail}  {eta_formatted} left`,
      stream: process.stderr,
      hideCursor: true,
      clearOnComplete: true,
      barsize: 30,
    });
  }

  /** Shows how far it is. A total of 0 is one that is not known, and shows nothing. */
  update(done: number, total: number, payload: Record<string, string | number>): void {
    if (total === 0) return;
    if (this.#started) this.#bar.update(done, payload);
    else this.#bar.start(total, done, payload);
    this.#started = true;
  }

  stop(): void {
    if (this.#started) this.#bar.stop();
  }
}
