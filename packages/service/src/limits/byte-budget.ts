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
  /** Sets the number of held bytes. Like {@link add}. */
  set(bytes: number): void;
  release(): void;
}

/** The memory that each holder, and the process as a whole, holds for clients. */
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

  /** The bytes held for one holder. */
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

  /** Records the bytes that have been sent to each holder and not been read. */
  noteUnread(unread: ReadonlyMap<string, number>): void {
    this.#unread = unread;
    this.#totalUnread = 0;
    for (const bytes of unread.values()) this.#totalUnread += bytes;
  }

  /** @throws {ProblemError} `budget-exceeded` when these bytes exceed the budget */
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
