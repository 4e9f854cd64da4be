import { groupDigits } from '../json/group-digits.js';

/** The most steps that a condition may take on one document: about a tenth of a second. */
export const DOCUMENT_WORK_LIMIT = 16_000_000;

/** Raised when a condition takes more steps on one document than it may. */
export class WorkLimitError extends Error {
  override name = 'WorkLimitError';
  constructor(readonly limit: number) {
    super(
      `The condition takes more than ${groupDigits(limit)} steps on one document. ` +
        'Use fewer terms on long strings, or geometries with fewer points.',
    );
  }
}

/**
 * Counts the work of evaluating conditions, in steps. A step is one character or list item that is read; more expensive
 * work counts as several steps. The count depends only on the condition and the documents, so it is the same on every
 * machine.
 */
export class WorkMeter {
  /** All steps since the meter was made. */
  total = 0;
  #documentEnd: number;
  #end = Infinity;

  /** @param limit the most steps for one document */
  constructor(readonly limit = DOCUMENT_WORK_LIMIT) {
    this.#documentEnd = limit;
  }

  /** Begins the count for the next document. */
  begin(): void {
    this.#documentEnd = Math.min(this.total + this.limit, this.#end);
  }

  /** Allows this many further steps in total, for any number of documents; Infinity for no limit. */
  limitTo(steps: number): void {
    this.#end = this.total + steps;
  }

  /**
   * Counts steps, before they are done where that is possible.
   *
   * @throws {WorkLimitError} when the document has taken more than the limit
   */
  add(steps: number): void {
    this.total += steps;
    if (this.total > this.#documentEnd) throw new WorkLimitError(this.limit);
  }
}
