import { joinName, splitName } from '@uproar/core';

/** West, south, east and north, in degrees. */
export type Box = readonly [west: number, south: number, east: number, north: number];

/** Digits after the point: about a metre. */
const DIGITS = 5;

/**
 * Adds a box to a condition in CQL2. A box that was added before for the same field is replaced.
 *
 * @param field the name of the field, as queries have it
 */
export function addBox(where: string, field: string, box: Box): string {
  const name = joinName(splitName(field));
  const numbers = box.map((value) => Number(value.toFixed(DIGITS)));
  const added = `S_INTERSECTS(${name}, BBOX(${numbers.join(', ')}))`;
  const start = `S_INTERSECTS(${name}, BBOX(`;
  const at = where.lastIndexOf(start);
  const [before, after] = [where.slice(0, at), where.slice(at + start.length)];
  const joined = before === '' || (before.endsWith(' AND ') && (before.endsWith(') AND ') || !/\bor\b/i.test(before)));
  if (at !== -1 && joined && /^[-\d., ]+\)\)$/.test(after)) return before + added;
  if (where.trim() === '') return added;
  return /\bor\b/i.test(where) ? `(${where}) AND ${added}` : `${where} AND ${added}`;
}
