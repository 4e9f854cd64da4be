/**
 * Finds similar names. It is a separate module, which the browser client leaves out: there, nothing is suggested, because the
 * service does that.
 */
export const nearness: { find: ((name: string, names: Iterable<string>) => string[]) | undefined } = {
  find: undefined,
};

/** Up to three of `names` that are nearly `name`, the nearest first. */
export function nearNames(name: string, names: Iterable<string>): string[] {
  return nearness.find?.(name, names) ?? [];
}

/** ` Did you mean "a" or "b"?`, or nothing. */
export function didYouMean(near: readonly string[]): string {
  return near.length === 0 ? '' : ` Did you mean ${near.map((name) => `"${name}"`).join(' or ')}?`;
}
