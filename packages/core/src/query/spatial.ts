import { bbox as boxOf } from '@turf/bbox';
import { booleanContains } from '@turf/boolean-contains';
import { booleanIntersects } from '@turf/boolean-intersects';
import { booleanWithin } from '@turf/boolean-within';
import { isObject, type JsonValue } from '../json.js';
import type { Geometry } from './tree.js';

/** Levels of arrays around the numbers of a position, by geometry type (RFC 7946, section 3.1). */
const DEPTHS: Readonly<Record<string, number>> = {
  Point: 0,
  MultiPoint: 1,
  LineString: 1,
  MultiLineString: 2,
  Polygon: 2,
  MultiPolygon: 3,
};

/** The value as a GeoJSON geometry, or undefined when it is none. */
export function asGeometry(value: JsonValue | undefined): Geometry | undefined {
  if (!isObject(value as JsonValue)) return undefined;
  const { type, coordinates, geometries } = value as {
    type?: JsonValue;
    coordinates?: JsonValue;
    geometries?: JsonValue;
  };
  if (type === 'GeometryCollection') {
    return Array.isArray(geometries) && geometries.length > 0 && geometries.every((one) => asGeometry(one))
      ? (value as unknown as Geometry)
      : undefined;
  }
  if (typeof type !== 'string' || !Object.hasOwn(DEPTHS, type)) return undefined;
  return isNested(coordinates, DEPTHS[type]!) && isComplete(type, coordinates as JsonValue[])
    ? (value as unknown as Geometry)
    : undefined;
}

function isNested(value: JsonValue | undefined, depth: number): boolean {
  if (!Array.isArray(value) || value.length === 0) return false;
  if (depth === 0) return value.length >= 2 && value.every((number) => typeof number === 'number');
  return value.every((item) => isNested(item, depth - 1));
}

/** A line has two positions or more, a ring four or more with the last equal to the first. */
function isComplete(type: string, coordinates: JsonValue[]): boolean {
  const isRing = (ring: JsonValue) =>
    Array.isArray(ring) && ring.length >= 4 && JSON.stringify(ring[0]) === JSON.stringify(ring.at(-1));
  if (type === 'LineString') return coordinates.length >= 2;
  if (type === 'MultiLineString') return coordinates.every((line) => (line as JsonValue[]).length >= 2);
  if (type === 'Polygon') return coordinates.every(isRing);
  return type !== 'MultiPolygon' || coordinates.every((polygon) => (polygon as JsonValue[]).every(isRing));
}

/** The rectangle between two corners, as a polygon. A box of six numbers has heights, which are left aside. */
export function polygonOfBox(box: readonly number[]): Geometry {
  const [west, south, east, north] =
    box.length === 6 ? [box[0]!, box[1]!, box[3]!, box[4]!] : (box as [number, number, number, number]);
  return {
    type: 'Polygon',
    coordinates: [
      [
        [west, south],
        [east, south],
        [east, north],
        [west, north],
        [west, south],
      ],
    ],
  };
}

/** The box around a geometry: west, south, east, north. */
export function boxAround(geometry: Geometry): [number, number, number, number] {
  return boxOf(geometry as never).slice(0, 4) as [number, number, number, number];
}

/**
 * The spatial relations (CQL2, section 7.8), by operator. Undefined where the relation cannot be told for these two
 * kinds of geometry.
 */
export function relate(operator: string, a: Geometry, b: Geometry): boolean | undefined {
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
