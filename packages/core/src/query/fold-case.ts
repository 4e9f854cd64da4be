/**
 * Case folding for CASEI (full case folding, Unicode). Its table is a separate module, which the browser client leaves
 * out: there, conditions with CASEI are not evaluated.
 */
export const caseFolding: { fold: ((text: string) => string) | undefined } = { fold: undefined };
