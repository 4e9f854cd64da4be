import { InvalidArgumentError } from 'commander';

/** Reads a whole number from 0, as the value of an option. */
export function wholeNumber(text: string): number {
  if (!/^\d{1,9}$/.test(text)) throw new InvalidArgumentError('It must be a whole number.');
  return Number(text);
}
