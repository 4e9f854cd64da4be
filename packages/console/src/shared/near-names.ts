import { findNearNames, nearness } from '@uproar/core';

/** Enables suggestions for misspelt names, which the browser client leaves out. */
export function suggestNames(): void {
  nearness.find = findNearNames;
}
