import { CommandError, EXIT } from '../output/exit-codes.js';

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

/** Reads how much is allowed in how long, such as `100/10s`. */
export function parseQuota(text: string): { requests: number; seconds: number } {
  const [requests, time] = text.split('/');
  const durationMs = /^[1-9]\d{0,8}$/.test(requests!) && time !== undefined ? parseAmount(time, TIMES) : undefined;
  if (durationMs !== undefined && durationMs >= 1000) return { requests: Number(requests), seconds: durationMs / 1000 };
  throw new CommandError(`"${text}" is no rate.`, EXIT.usage, 'Write it like 100/10s or 6000/1m.');
}

/** Reads a whole number that is not 0. */
export function parseCount(text: string): number {
  if (/^[1-9]\d{0,8}$/.test(text)) return Number(text);
  throw new CommandError(`"${text}" is no number.`, EXIT.usage, 'Use a whole number from 1.');
}

/** Reads a time such as `90s`, `12h` or `30d`, in milliseconds. */
export function parseDuration(text: string | undefined): number | undefined {
  return parseAmount(text, TIMES);
}
