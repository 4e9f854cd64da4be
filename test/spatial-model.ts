/** A shape of GeoJSON with plain coordinates. */
export type Shape =
  | { type: 'Point'; coordinates: [number, number] }
  | { type: 'MultiPoint' | 'LineString'; coordinates: [number, number][] }
  | { type: 'MultiLineString' | 'Polygon'; coordinates: [number, number][][] }
  | { type: 'MultiPolygon'; coordinates: [number, number][][][] };

export const RELATION_NAMES = [
  's_contains',
  's_crosses',
  's_disjoint',
  's_equals',
  's_intersects',
  's_overlaps',
  's_touches',
  's_within',
] as const;

type Position = readonly [number, number];
type Segment = readonly [Position, Position];
type Place = 'inside' | 'boundary' | 'outside';

const NEAR = 1e-9;

/**
 * All relations of two shapes by their definitions (OGC Simple Features), found by looking where sample points lie: every
 * corner and crossing, the middle of every piece of a line between two of them, and a point in every face. Meant for small
 * whole coordinates, where no two of these come close.
 */
export function modelRelations(a: Shape, b: Shape): Record<(typeof RELATION_NAMES)[number], boolean> {
  /** The greatest dimension in which a part of one meets a part of the other; -1 where they do not. */
  const meets = new Map<string, number>();
  for (const { position, dimension } of samples(a, b)) {
    const key = `${placeIn(a, position)} ${placeIn(b, position)}`;
    meets.set(key, Math.max(meets.get(key) ?? -1, dimension));
  }
  const dimensionOf = (one: Place, other: Place) => meets.get(`${one} ${other}`) ?? -1;
  const has = (one: Place, other: Place) => dimensionOf(one, other) >= 0;
  const insides = dimensionOf('inside', 'inside');
  const intersects =
    insides >= 0 || has('inside', 'boundary') || has('boundary', 'inside') || has('boundary', 'boundary');
  const aOutside = has('inside', 'outside') || has('boundary', 'outside');
  const bOutside = has('outside', 'inside') || has('outside', 'boundary');
  const [dimensionA, dimensionB] = [dimension(a), dimension(b)];
  const crosses =
    dimensionA < dimensionB
      ? insides >= 0 && has('inside', 'outside')
      : dimensionA > dimensionB
        ? insides >= 0 && has('outside', 'inside')
        : dimensionA === 1 && insides === 0;
  const overlaps =
    dimensionA === dimensionB &&
    has('inside', 'outside') &&
    has('outside', 'inside') &&
    (dimensionA === 1 ? insides === 1 : insides >= 0);
  return {
    s_contains: insides >= 0 && !bOutside,
    s_crosses: crosses,
    s_disjoint: !intersects,
    s_equals: insides >= 0 && !aOutside && !bOutside,
    s_intersects: intersects,
    s_overlaps: overlaps,
    s_touches: intersects && insides < 0,
    s_within: insides >= 0 && !aOutside,
  };
}

function dimension({ type }: Shape): number {
  return type.endsWith('Point') ? 0 : type.endsWith('LineString') ? 1 : 2;
}

function points(shape: Shape): Position[] {
  return shape.type === 'Point' ? [shape.coordinates] : shape.type === 'MultiPoint' ? shape.coordinates : [];
}

function lines(shape: Shape): Position[][] {
  return shape.type === 'LineString' ? [shape.coordinates] : shape.type === 'MultiLineString' ? shape.coordinates : [];
}

function areas(shape: Shape): Position[][][] {
  return shape.type === 'Polygon' ? [shape.coordinates] : shape.type === 'MultiPolygon' ? shape.coordinates : [];
}

function segments(shape: Shape): Segment[] {
  return [...lines(shape), ...areas(shape).flat()].flatMap((line) =>
    line.slice(1).map((position, at) => [line[at]!, position] as Segment),
  );
}

function* samples(a: Shape, b: Shape): Generator<{ position: Position; dimension: number }> {
  const all = [...segments(a), ...segments(b)];
  const corners: Position[] = [...points(a), ...points(b), ...all.flat()];
  for (const [at, one] of all.entries()) for (const other of all.slice(at + 1)) corners.push(...crossings(one, other));
  for (const position of corners) yield { position, dimension: 0 };
  for (const [from, to] of all) {
    const on = corners
      .filter((position) => isOn(position, [from, to]))
      .map(([x, y]) => (x - from[0]) * (to[0] - from[0]) + (y - from[1]) * (to[1] - from[1]))
      .map((along) => along / ((to[0] - from[0]) ** 2 + (to[1] - from[1]) ** 2))
      .sort((x, y) => x - y);
    for (let at = 1; at < on.length; at++) {
      if (on[at]! - on[at - 1]! < NEAR) continue;
      const middle = (on[at]! + on[at - 1]!) / 2;
      yield { position: [from[0] + middle * (to[0] - from[0]), from[1] + middle * (to[1] - from[1])], dimension: 1 };
    }
  }
  const xs = [...new Set(corners.map(([x]) => x))].sort((x, y) => x - y);
  for (let at = 1; at < xs.length; at++) {
    if (xs[at]! - xs[at - 1]! < NEAR) continue;
    const x = (xs[at]! + xs[at - 1]!) / 2;
    const ys = all
      .filter(([from, to]) => (from[0] - x) * (to[0] - x) < 0)
      .map(([from, to]) => from[1] + ((x - from[0]) / (to[0] - from[0])) * (to[1] - from[1]))
      .sort((one, other) => one - other);
    for (let place = 1; place < ys.length; place++) {
      if (ys[place]! - ys[place - 1]! > NEAR) yield { position: [x, (ys[place]! + ys[place - 1]!) / 2], dimension: 2 };
    }
  }
  yield { position: [1000, 1000], dimension: 2 };
}

/** Where two segments meet: a point, or the ends of what they share. */
function crossings([p1, p2]: Segment, [q1, q2]: Segment): Position[] {
  const [dx, dy, ex, ey] = [p2[0] - p1[0], p2[1] - p1[1], q2[0] - q1[0], q2[1] - q1[1]];
  const cross = dx * ey - dy * ex;
  // Ends of parallel segments are corners already.
  if (Math.abs(cross) < NEAR) return [];
  const along = ((q1[0] - p1[0]) * ey - (q1[1] - p1[1]) * ex) / cross;
  const position: Position = [p1[0] + along * dx, p1[1] + along * dy];
  return isOn(position, [p1, p2]) && isOn(position, [q1, q2]) ? [position] : [];
}

function isOn([x, y]: Position, [from, to]: Segment): boolean {
  const cross = (to[0] - from[0]) * (y - from[1]) - (to[1] - from[1]) * (x - from[0]);
  if (Math.abs(cross) > NEAR) return false;
  const within = (value: number, one: number, other: number) =>
    value >= Math.min(one, other) - NEAR && value <= Math.max(one, other) + NEAR;
  return within(x, from[0], to[0]) && within(y, from[1], to[1]);
}

function isAt(a: Position, b: Position): boolean {
  return Math.abs(a[0] - b[0]) < NEAR && Math.abs(a[1] - b[1]) < NEAR;
}

function placeIn(shape: Shape, position: Position): Place {
  if (dimension(shape) === 0) return points(shape).some((one) => isAt(one, position)) ? 'inside' : 'outside';
  if (dimension(shape) === 1) {
    // An end is on the boundary where an odd number of lines end (the mod-2 rule).
    const ends = lines(shape).flatMap((line) => [line[0]!, line.at(-1)!]);
    if (ends.filter((end) => isAt(end, position)).length % 2 === 1) return 'boundary';
    return segments(shape).some((segment) => isOn(position, segment)) ? 'inside' : 'outside';
  }
  if (segments(shape).some((segment) => isOn(position, segment))) return 'boundary';
  return areas(shape).some((rings) => isWithinRings(rings, position)) ? 'inside' : 'outside';
}

/** By how many edges a ray to the east meets. */
function isWithinRings(rings: Position[][], [x, y]: Position): boolean {
  let inside = false;
  for (const ring of rings) {
    for (let at = 1; at < ring.length; at++) {
      const [[x1, y1], [x2, y2]] = [ring[at - 1]!, ring[at]!];
      if (y1 > y !== y2 > y && x < x1 + ((y - y1) / (y2 - y1)) * (x2 - x1)) inside = !inside;
    }
  }
  return inside;
}
