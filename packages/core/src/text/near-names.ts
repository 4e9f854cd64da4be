/**
 * The distance between two strings. It is a separate module, which the browser client leaves out: there, nothing is
 * suggested, because the service does that.
 */
export const nearness: { distance: ((a: string, b: string) => number) | undefined } = { distance: undefined };

/** Up to three of `names` that are nearly `name`, the nearest first. */
export function nearNames(name: string, names: Iterable<string>): string[] {
  const { distance } = nearness;
  if (!distance) return [];
  const limit = name.length < 4 ? 1 : Math.max(2, Math.floor(name.length / 3));
  return [...names]
    .map((candidate) => ({ candidate, distance: distance(candidate.toLowerCase(), name.toLowerCase()) }))
    .filter((entry) => entry.distance <= limit && entry.candidate !== name)
    .sort((a, b) => a.distance - b.distance || (a.candidate < b.candidate ? -1 : 1))
    .slice(0, 3)
    .map((entry) => entry.candidate);
}

/** ` Did you mean "a" or "b"?`, or nothing. */
export function didYouMean(near: readonly string[]): string {
  return near.length === 0 ? '' : ` Did you mean ${near.map((name) => `"${name}"`).join(' or ')}?`;
}
