import type { Document, JsonObject, JsonValue } from '@uproar/client';
import { isObject, typeOfValue } from '@uproar/core';
import { valueAt, type Field } from '../../table/fields.js';

/** A geometry of a document, as GeoJSON (RFC 7946) has it. */
export interface Geometry {
  type: string;
  coordinates?: unknown;
  geometries?: Geometry[];
}

/** Whether some values of a field are places. */
export const isPlace = ({ type, kinds }: Pick<Field, 'type' | 'kinds'>) =>
  type === 'place' || kinds.includes('× place');

/** Where a document is: at a point, or in another geometry. */
export type PlaceOf = { point: readonly [longitude: number, latitude: number] } | { shape: Geometry };

/** The place of a document; undefined if the field holds no GeoJSON geometry, or one beyond the poles or the date line. */
export function placeOf({ data }: Document, path: readonly string[]): PlaceOf | undefined {
  const value = valueAt(data, path);
  if (!isObject(value as JsonValue) || typeOfValue(value!) !== 'place') return undefined;
  const geometry = value as unknown as Geometry;
  if (geometry.type !== 'Point') return isOnEarth(geometry) ? { shape: geometry } : undefined;
  const [longitude, latitude] = geometry.coordinates as [number, number];
  return isPosition(longitude, latitude) ? { point: [longitude, latitude] } : undefined;
}

const isPosition = (longitude: number, latitude: number) => Math.abs(longitude) <= 180 && Math.abs(latitude) <= 90;

function isOnEarth({ coordinates, geometries }: Geometry): boolean {
  if (geometries) return geometries.every(isOnEarth);
  const look = (value: unknown): boolean => {
    if (!Array.isArray(value)) return false;
    return typeof value[0] === 'number' ? isPosition(value[0], Number(value[1])) : value.every(look);
  };
  return look(coordinates);
}

/** The geometries of a GeoJSON file: of a FeatureCollection, a Feature or a geometry. */
export function readGeoJson(text: string): Geometry[] {
  const found: Geometry[] = [];
  const take = (value: JsonValue | undefined): void => {
    if (!isObject(value as JsonValue)) return;
    const { type, features, geometry } = value as JsonObject;
    if (type === 'FeatureCollection' && Array.isArray(features)) for (const feature of features) take(feature);
    else if (type === 'Feature') take(geometry);
    else if (typeOfValue(value!) === 'place' && isOnEarth(value as unknown as Geometry))
      found.push(value as unknown as Geometry);
  };
  take(JSON.parse(text) as JsonValue);
  if (found.length === 0) throw new Error('The file holds no GeoJSON geometry.');
  return found;
}
