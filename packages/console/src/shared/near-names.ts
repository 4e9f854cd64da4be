import { nearness } from '@uproar/core';
import { distance } from 'fastest-levenshtein';

/** Enables suggestions for misspelt names, which the browser build of the core leaves out. */
export function suggestNames(): void {
  nearness.distance = distance;
}
