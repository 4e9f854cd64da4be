/**
 * What folds case for CASEI (full case folding, Unicode). Its table is a module of its own, which browsers do without: there
 * conditions with CASEI are not judged.
 */
export const caseFolding: { fold: ((text: string) => string) | undefined } = { fold: undefined };
