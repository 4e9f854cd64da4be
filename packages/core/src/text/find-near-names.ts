import { distance } from 'fastest-levenshtein';

/** Up to three of `names` that are nearly `name`, the nearest first. */
export function findNearNames(name: string, names: Iterable<string>): string[] {
  const limit = name.length < 4 ? 1 : Math.max(2, Math.floor(name.length / 3));
  return [...names]
    .map((candidate) => ({ candidate, distance: distance(candidate.toLowerCase(), name.toLowerCase()) }))
    .filter((entry) => entry.distance <= limit && entry.candidate !== name)
    .sort((a, b) => a.distance - b.distance || (a.candidate < b.candidate ? -1 : 1))
    .slice(0, 3)
    .map((entry) => entry.candidate);
}
