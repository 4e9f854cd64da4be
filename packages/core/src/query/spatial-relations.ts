import SimplePointInAreaLocator from 'jsts/org/locationtech/jts/algorithm/locate/SimplePointInAreaLocator.js';
import Coordinate from 'jsts/org/locationtech/jts/geom/Coordinate.js';
import GeoJSONReader from 'jsts/org/locationtech/jts/io/GeoJSONReader.js';
import RelateOp from 'jsts/org/locationtech/jts/operation/relate/RelateOp.js';
import { countCrossings, overlapCollinearly } from './segment-sweep.js';

import type { Geometry } from './tree.js';
import type { WorkMeter } from './work.js';

/** What one position of a geometry counts as, and one pair of segments that may cross. */
const POSITION_STEPS = 200;
const CROSSING_STEPS = 100;
/** What one position counts as where a point is located in an area. */
const LOCATE_STEPS = 10;

/** Where a point lies in an area. */
const LOCATIONS = { interior: 0, boundary: 1, exterior: 2 } as const;

type Parsed = ReturnType<GeoJSONReader['read']>;
interface Single {
  type: string;
  coordinates: unknown;
}

const reader = new GeoJSONReader();
const parsed = new WeakMap<object, Parsed>();

/**
 * Evaluates a spatial relation (CQL2, section 7.8) by the dimensionally extended nine-intersection model of OGC Simple
 * Features. Undefined where a geometry collection mixes points, lines and areas and the relation needs more than its parts,
 * and for shapes that have no relations, such as areas whose rings cross themselves.
 */
export function relate(operator: string, a: Geometry, b: Geometry, work: WorkMeter | undefined): boolean | undefined {
  const [partsA, partsB] = [partsOf(a), partsOf(b)];
  if (partsA.length === 1 && partsB.length === 1) return relateParts(operator, partsA[0]!, partsB[0]!, work);
  const anyMeet = () =>
    any(partsA, (one) => any(partsB, (other) => relateParts('s_intersects', one, other, work) ?? undefined));
  switch (operator) {
    case 's_intersects':
      return anyMeet();
    case 's_disjoint': {
      const meet = anyMeet();
      return meet === undefined ? undefined : !meet;
    }
    case 's_within':
      return isWithin(partsA, partsB, work);
    case 's_contains':
      return isWithin(partsB, partsA, work);
    default:
      return undefined;
  }
}

/** A collection lies within one shape when the shape covers each part and meets the inside of one. */
function isWithin(parts: Single[], around: Single[], work: WorkMeter | undefined): boolean | undefined {
  if (around.length > 1) return undefined;
  let meets = false;
  for (const part of parts) {
    const matrix = matrixOf(part, around[0]!, work);
    if (!matrix) return undefined;
    if (!matrix.isCoveredBy()) return false;
    meets ||= matrix.matches('T********');
  }
  return meets;
}

function any<Item>(items: Item[], test: (item: Item) => boolean | undefined): boolean | undefined {
  let result: boolean | undefined = false;
  for (const item of items) {
    const one = test(item);
    if (one === true) return true;
    if (one === undefined) result = undefined;
  }
  return result;
}

function relateParts(operator: string, a: Single, b: Single, work: WorkMeter | undefined): boolean | undefined {
  if (a.type === 'Point' && isArea(b)) return relatePoint(operator, false, locate(a, b, work));
  if (b.type === 'Point' && isArea(a)) return relatePoint(operator, true, locate(b, a, work));
  const matrix = matrixOf(a, b, work);
  if (!matrix) return undefined;
  const [dimensionA, dimensionB] = [parse(a).getDimension(), parse(b).getDimension()];
  if (dimensionA === 1 && dimensionB === 1 && (operator === 's_crosses' || operator === 's_overlaps')) {
    // Rounding may part a stretch that two lines share at a crossing with others, so it is looked for exactly.
    if (matrix.matches('0********') && overlapCollinearly(a.coordinates, b.coordinates)) {
      return operator === 's_overlaps' && matrix.matches('**T***T**');
    }
  }
  switch (operator) {
    case 's_intersects':
      return matrix.isIntersects();
    case 's_disjoint':
      return !matrix.isIntersects();
    case 's_within':
      return matrix.isWithin();
    case 's_contains':
      return matrix.isContains();
    case 's_equals':
      return matrix.isEquals(dimensionA, dimensionB);
    case 's_touches':
      return matrix.isTouches(dimensionA, dimensionB);
    case 's_crosses':
      return matrix.isCrosses(dimensionA, dimensionB);
    default:
      return matrix.isOverlaps(dimensionA, dimensionB);
  }
}

/** The relation of a point and an area, which follows from where the point lies. */
function relatePoint(operator: string, areaFirst: boolean, location: number | undefined): boolean | undefined {
  if (location === undefined) return undefined;
  switch (operator) {
    case 's_intersects':
      return location !== LOCATIONS.exterior;
    case 's_disjoint':
      return location === LOCATIONS.exterior;
    case 's_within':
      return !areaFirst && location === LOCATIONS.interior;
    case 's_contains':
      return areaFirst && location === LOCATIONS.interior;
    case 's_touches':
      return location === LOCATIONS.boundary;
    default:
      return false;
  }
}

function locate({ coordinates }: Single, area: Single, work: WorkMeter | undefined): number | undefined {
  const [x, y] = coordinates as [number, number];
  work?.add(countPositions(area.coordinates) * LOCATE_STEPS);
  try {
    return SimplePointInAreaLocator.locate(new Coordinate(x, y), parse(area));
  } catch {
    return undefined;
  }
}

/** How the insides, boundaries and outsides of two shapes meet. Undefined where that cannot be worked out. */
function matrixOf(a: Single, b: Single, work: WorkMeter | undefined) {
  if (work) {
    work.add((countPositions(a.coordinates) + countPositions(b.coordinates)) * POSITION_STEPS);
    countCrossings([a.coordinates, b.coordinates], (steps, crossings) => work.add(steps + crossings * CROSSING_STEPS));
  }
  try {
    return RelateOp.relate(parse(a), parse(b));
  } catch {
    return undefined;
  }
}

function parse(shape: Single): Parsed {
  let known = parsed.get(shape);
  if (!known) {
    // Heights and measures are left aside.
    const { type, coordinates } = shape;
    parsed.set(shape, (known = reader.read({ type, coordinates: inPlane(coordinates) })));
  }
  return known;
}

function inPlane(coordinates: unknown): unknown {
  if (!Array.isArray(coordinates)) return coordinates;
  return typeof coordinates[0] === 'number' ? coordinates.slice(0, 2) : coordinates.map(inPlane);
}

function isArea({ type }: Single): boolean {
  return type === 'Polygon' || type === 'MultiPolygon';
}

/** The parts of a geometry; a collection of one kind of shape is one part. */
function partsOf(geometry: Geometry): Single[] {
  const { type } = geometry as unknown as Single;
  if (type !== 'GeometryCollection') return [geometry as unknown as Single];
  let parts = collected.get(geometry);
  if (!parts) collected.set(geometry, (parts = joinAlike(flatten(geometry))));
  return parts;
}

const collected = new WeakMap<object, Single[]>();

function flatten(geometry: unknown): Single[] {
  const { geometries } = geometry as { geometries?: unknown[] };
  return geometries ? geometries.flatMap(flatten) : [geometry as Single];
}

function joinAlike(shapes: Single[]): Single[] {
  const byType = new Map<string, unknown[]>();
  for (const { type, coordinates } of shapes) {
    const multi = type.startsWith('Multi');
    const name = multi ? type : `Multi${type}`;
    byType.set(name, [...(byType.get(name) ?? []), ...(multi ? (coordinates as unknown[]) : [coordinates])]);
  }
  return [...byType].map(([type, coordinates]) => ({ type, coordinates }));
}

/** How many positions there are in the coordinates of a geometry. */
function countPositions(coordinates: unknown): number {
  if (!Array.isArray(coordinates)) return 0;
  if (typeof coordinates[0] === 'number') return 1;
  return coordinates.reduce<number>((sum, inner) => sum + countPositions(inner), 0);
}
