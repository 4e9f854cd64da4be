import { foldCaseFully } from './query/case-folding.js';
import { caseFolding } from './query/fold-case.js';
import { spatialRelations } from './query/spatial.js';
import { relate } from './query/spatial-relations.js';
import { findNearNames } from './text/find-near-names.js';
import { nearness } from './text/near-names.js';

/**
 * Enables everything that queries can do: spatial relations, full case folding in `CASEI`, and suggestions for misspelt
 * names. A process calls it once at its start. The browser client leaves it out, which keeps these parts out of its
 * bundle: there the service evaluates such conditions.
 */
export function enableFullQueries(): void {
  caseFolding.fold = foldCaseFully;
  spatialRelations.relate = relate;
  nearness.find = findNearNames;
}
