import { CommandError, EXIT } from './exit-codes.js';

/** Units of time, in milliseconds. */
export const TIMES = { s: 1000, m: 60_000, h: 3_600_000, d: 86_400_000 };
/** Units of size, in bytes. */
export const SIZES = { kB: 1000, MB: 1_000_000, GB: 1_000_000_000 };

/** Reads an amount with its unit. */
export function parseAmount(text: string | undefined, units: Record<string, number>): number | undefined {
  if (text === undefined) return undefined;
  const [, number, unit] = /^(\d{1,9})([A-Za-z]+)$/.exec(text) ?? [];
  if (number === undefined || !Object.hasOwn(units, unit!)) {
    throw new CommandError(
      `"${text}" is no amount.`,
      EXIT.usage,
      `Write a number with one of ${Object.keys(units).join(', ')}.`,
    );
  }
  return Number(number) * units[unit!]!;
}

/** Reads a time such as `90s`, `12h` or `30d`, in milliseconds. */
export function parseDuration(text: string | undefined): number | undefined {
  return parseAmount(text, TIMES);
}
