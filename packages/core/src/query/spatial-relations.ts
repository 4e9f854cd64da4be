import { booleanContains } from '@turf/boolean-contains';
import { booleanIntersects } from '@turf/boolean-intersects';
import { booleanWithin } from '@turf/boolean-within';
import { spatialRelations } from './spatial.js';
import type { Geometry } from './tree.js';

/**
 * The spatial relations (CQL2, section 7.8), by operator. Undefined where the relation cannot be told for these two
 * kinds of geometry.
 */
function relate(operator: string, a: Geometry, b: Geometry): boolean | undefined {
  try {
    switch (operator) {
      case 's_intersects':
        return booleanIntersects(a as never, b as never);
      case 's_disjoint':
        return !booleanIntersects(a as never, b as never);
      case 's_within':
        return booleanWithin(a as never, b as never);
      default:
        return booleanContains(a as never, b as never);
    }
  } catch {
    return undefined;
  }
}

spatialRelations.relate = relate;
