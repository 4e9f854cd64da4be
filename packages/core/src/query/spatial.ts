import { isObject, type JsonValue } from '../json/json.js';
import type { Geometry } from './tree.js';
import type { WorkMeter } from './work.js';

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
  const box: [number, number, number, number] = [Infinity, Infinity, -Infinity, -Infinity];
  const add = (value: unknown): void => {
    if (!Array.isArray(value)) return;
    if (typeof value[0] !== 'number') return value.forEach(add);
    const [x, y] = value as [number, number];
    box[0] = Math.min(box[0], x);
    box[1] = Math.min(box[1], y);
    box[2] = Math.max(box[2], x);
    box[3] = Math.max(box[3], y);
  };
  const visit = (one: { coordinates?: unknown; geometries?: unknown }): void => {
    add(one.coordinates);
    if (Array.isArray(one.geometries)) for (const inner of one.geometries) visit(inner as typeof one);
  };
  visit(geometry as { coordinates?: unknown });
  return box;
}

/** Evaluates a spatial relation by its operator; undefined where it is unknown for these two geometries. */
export type Relate = (operator: string, a: Geometry, b: Geometry, work: WorkMeter | undefined) => boolean | undefined;

/**
 * Evaluates spatial relations. The code is large, so it is a separate module, which the browser client leaves out:
 * there, conditions with spatial operators are not evaluated.
 */
export const spatialRelations: { relate: Relate | undefined } = { relate: undefined };
