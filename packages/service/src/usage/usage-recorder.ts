import type { Store } from '../store/index.js';
import type { UsageMeter } from './usage-meter.js';

/** Rows of one record. */
const ROWS_AT_ONCE = 1000;

/** How usage is recorded. */
export interface UsageSettings {
  /** How often it is recorded, in milliseconds. What was counted since is lost when the process is killed. */
  intervalMs?: number | undefined;
  /** The most combinations of identity and collection that are recorded for a day. */
  maxRows?: number | undefined;
  /** How long it is kept, in days. */
  keptDays?: number | undefined;
}

export const DEFAULT_USAGE = { intervalMs: 60_000, maxRows: 50_000, keptDays: 62 } as const;

/** Writes what was counted to the log, again and again. */
export class UsageRecorder {
  readonly #log: Pick<Store['log'], 'propose'>;
  readonly #meter: UsageMeter;
  readonly #settings: Required<{ [Name in keyof UsageSettings]: number }>;
  readonly #mayRecord: () => boolean;
  readonly #timer: NodeJS.Timeout;
  #recording: Promise<void> | undefined;
  /** The day of the newest record, or of the start. */
  #lastDay = new Date().getUTCDate();

  /** @param mayRecord whether all nodes know this kind of record */
  constructor(
    log: Pick<Store['log'], 'propose'>,
    meter: UsageMeter,
    settings: UsageSettings = {},
    mayRecord: () => boolean = () => true,
  ) {
    this.#log = log;
    this.#meter = meter;
    const { intervalMs, maxRows, keptDays } = settings;
    this.#settings = {
      intervalMs: intervalMs ?? DEFAULT_USAGE.intervalMs,
      maxRows: maxRows ?? DEFAULT_USAGE.maxRows,
      keptDays: keptDays ?? DEFAULT_USAGE.keptDays,
    };
    this.#mayRecord = mayRecord;
    this.#timer = setInterval(() => void this.record(), this.#settings.intervalMs).unref();
  }

  /** Records what was counted up to now. What cannot be recorded is kept for the next time. */
  record(): Promise<void> {
    this.#recording ??= this.#record().finally(() => (this.#recording = undefined));
    return this.#recording;
  }

  /** Records the rest, and stops. */
  async close(): Promise<void> {
    clearInterval(this.#timer);
    await this.#recording;
    await this.record();
  }

  async #record(): Promise<void> {
    if (!this.#mayRecord()) return;
    for (let more = true; more;) {
      const timeMs = Date.now();
      const rows = this.#meter.take(ROWS_AT_ONCE);
      // A day without requests is recorded too, because collections have a size on that day.
      const day = new Date(timeMs).getUTCDate();
      if (rows.length === 0 && day === this.#lastDay) return;
      const { maxRows, keptDays } = this.#settings;
      try {
        await this.#log.propose({ kind: 'usage', timeMs, rows, maxRows, keptDays });
        this.#lastDay = day;
      } catch {
        this.#meter.putBack(rows);
        return;
      }
      more = rows.length === ROWS_AT_ONCE;
    }
  }
}
