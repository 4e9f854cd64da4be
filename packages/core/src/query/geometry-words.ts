/** The words of geometries in well-known text, with the depth of their coordinates. */
export const GEOMETRIES: Readonly<Record<string, { type: string; depth: number }>> = {
  POINT: { type: 'Point', depth: 0 },
  LINESTRING: { type: 'LineString', depth: 1 },
  POLYGON: { type: 'Polygon', depth: 2 },
  MULTIPOINT: { type: 'MultiPoint', depth: 1 },
  MULTILINESTRING: { type: 'MultiLineString', depth: 2 },
  MULTIPOLYGON: { type: 'MultiPolygon', depth: 3 },
};
export const COLLECTION = 'GEOMETRYCOLLECTION';

/** The word of a geometry, with the dimensions that may be written right behind it left out: `POINTZ`. */
export function geometryWord(word: string): string | undefined {
  const bare = word.replace(/(?:ZM|Z|M)$/, '');
  return Object.hasOwn(GEOMETRIES, bare) || bare === COLLECTION ? bare : undefined;
}
