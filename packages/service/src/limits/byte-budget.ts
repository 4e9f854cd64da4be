import { problemError } from '@uproar/protocol';
import type { BudgetLimits } from './limits.js';

/** Bytes held for one purpose, such as a result that is being made. */
export interface ByteLease {
  /**
   * Takes more bytes.
   *
   * @throws {ProblemError} `budget-exceeded`; then nothing is taken
   */
  add(bytes: number): void;
  /** Holds so many bytes from now on, whatever was held before. As {@link add}. */
  set(bytes: number): void;
  release(): void;
}

/** What each holder and the process as a whole hold in memory for those who asked. */
export class ByteBudget {
  readonly #limits: Pick<BudgetLimits, 'identityBytes' | 'processBytes'>;
  readonly #leased = new Map<string, number>();
  #total = 0;
  #unread: ReadonlyMap<string, number> = new Map();
  #totalUnread = 0;
  /** How often something was refused, by the budget that was used up. */
  readonly refused = { identity: 0, process: 0 };

  constructor(limits: Pick<BudgetLimits, 'identityBytes' | 'processBytes'>) {
    this.#limits = limits;
  }

  /** Everything held now. */
  get total(): number {
    return this.#total + this.#totalUnread;
  }

  /** What is held for one holder. */
  of(holder: string): number {
    return (this.#leased.get(holder) ?? 0) + (this.#unread.get(holder) ?? 0);
  }

  /** For whom most is held, and how much. */
  list(limit: number): { holder: string; heldBytes: number }[] {
    const holders = new Set([...this.#leased.keys(), ...this.#unread.keys()]);
    return [...holders]
      .map((holder) => ({ holder, heldBytes: this.of(holder) }))
      .sort((a, b) => b.heldBytes - a.heldBytes)
      .slice(0, limit);
  }

  /** Notes what has been sent to each holder and not been read. */
  noteUnread(unread: ReadonlyMap<string, number>): void {
    this.#unread = unread;
    this.#totalUnread = 0;
    for (const bytes of unread.values()) this.#totalUnread += bytes;
  }

  /** @throws {ProblemError} `budget-exceeded` when there is no room for so many bytes more */
  check(holder: string, bytes = 0): void {
    const { identityBytes, processBytes } = this.#limits;
    if (this.of(holder) + bytes > identityBytes) {
      this.refused.identity++;
      throw refusal(
        'identity',
        `More than ${inMegabytes(identityBytes)} are held for you: results, watches, and responses that you have not read. Read them, end watches, or request less at once.`,
      );
    }
    if (this.total + bytes > processBytes) {
      this.refused.process++;
      throw refusal(
        'process',
        `The service holds ${inMegabytes(processBytes)} for other clients. Try again in a moment.`,
      );
    }
  }

  /** Opens a lease of no bytes yet. */
  open(holder: string): ByteLease {
    let held = 0;
    const take = (bytes: number) => {
      if (bytes > 0) this.check(holder, bytes);
      held += bytes;
      this.#total += bytes;
      const left = (this.#leased.get(holder) ?? 0) + bytes;
      if (left > 0) this.#leased.set(holder, left);
      else this.#leased.delete(holder);
    };
    return {
      add: take,
      set: (bytes) => take(bytes - held),
      release: () => take(-held),
    };
  }
}

function refusal(budget: string, detail: string): Error {
  return problemError('budget-exceeded', detail, { budget, retryAfter: 1 });
}

function inMegabytes(bytes: number): string {
  return `${Math.round(bytes / 1024 / 1024)} MiB`;
}
