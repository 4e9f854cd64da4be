import type { BudgetLimits } from './limits.js';

/** Bursts may use this many seconds' worth of work at once. */
const BURST_SECONDS = 2;

/** Keys are for servers, which watch on behalf of many users: their budget is this many times larger. */
const FACTOR_FOR_KEYS = 10;

/** Accounts that have been idle are forgotten when there are more than this. */
const MAX_ACCOUNTS = 10_000;

/** The work that the watches of each identity take as commits come, with a budget that fills up again as time passes. */
export class LiveWork {
  readonly #perSecond: number;
  readonly #taken = new Map<string, { steps: number; atMs: number }>();
  /** How many watches were ended because their budget was used up. */
  ended = 0;

  constructor({ watchWork }: Pick<BudgetLimits, 'watchWork'>) {
    this.#perSecond = watchWork;
  }

  /** The most steps that may be taken at once. */
  get most(): number {
    return BURST_SECONDS * this.#perSecond;
  }

  /** How many steps an identity may still take. */
  leftFor(holder: string, nowMs: number): number {
    return (this.most - this.#takenBy(holder, nowMs)) * factorFor(holder);
  }

  #takenBy(holder: string, nowMs: number): number {
    const before = this.#taken.get(holder);
    return before ? Math.max(0, before.steps - ((nowMs - before.atMs) / 1000) * this.#perSecond) : 0;
  }

  /** Notes steps that were taken for an identity. Returns whether its budget is used up. */
  take(holder: string, allSteps: number, nowMs: number): boolean {
    const steps = allSteps / factorFor(holder);
    const left = this.#takenBy(holder, nowMs);
    this.#taken.delete(holder);
    this.#taken.set(holder, { steps: left + steps, atMs: nowMs });
    if (this.#taken.size > MAX_ACCOUNTS) this.#taken.delete(this.#taken.keys().next().value!);
    return left + steps >= this.most;
  }
}

function factorFor(holder: string): number {
  return holder.startsWith('key:') ? FACTOR_FOR_KEYS : 1;
}
