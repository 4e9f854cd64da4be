/** The parts of JSTS that spatial relations use; its own declarations do not cover single modules. */
declare module 'jsts/org/locationtech/jts/io/GeoJSONReader.js' {
  export default class GeoJSONReader {
    read(geometry: unknown): { getDimension(): number };
  }
}
declare module 'jsts/org/locationtech/jts/operation/relate/RelateOp.js' {
  interface IntersectionMatrix {
    isIntersects(): boolean;
    isContains(): boolean;
    isWithin(): boolean;
    isCoveredBy(): boolean;
    isEquals(dimensionA: number, dimensionB: number): boolean;
    isTouches(dimensionA: number, dimensionB: number): boolean;
    isCrosses(dimensionA: number, dimensionB: number): boolean;
    isOverlaps(dimensionA: number, dimensionB: number): boolean;
    matches(pattern: string): boolean;
  }
  const RelateOp: { relate(a: unknown, b: unknown): IntersectionMatrix };
  export default RelateOp;
}
declare module 'jsts/org/locationtech/jts/algorithm/locate/SimplePointInAreaLocator.js' {
  const SimplePointInAreaLocator: { locate(coordinate: unknown, area: unknown): number };
  export default SimplePointInAreaLocator;
}
declare module 'jsts/org/locationtech/jts/geom/Coordinate.js' {
  export default class Coordinate {
    constructor(x: number, y: number);
  }
}
