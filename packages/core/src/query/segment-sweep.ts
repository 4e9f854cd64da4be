type Position = readonly [number, number];

/** A piece of a line, the shape it belongs to, and the box around it. */
interface Box {
  shape: number;
  from: Position;
  to: Position;
  west: number;
  south: number;
  east: number;
  north: number;
}

/** Reports after this many comparisons, so that too much work is noticed early. */
const REPORT_EVERY = 10_000;

/**
 * Counts the pairs of segments whose bounding boxes overlap, from west to east. This bounds the crossings that a
 * spatial relation has to compute, which can grow with the square of the number of segments.
 *
 * @param report called with the comparisons and overlapping pairs since the previous call; can end the count by an
 *   error
 */
export function countCrossings(shapes: readonly unknown[], report: (steps: number, pairs: number) => void): void {
  sweep(shapes, report, () => false);
}

/** Whether two shapes made of lines have a stretch of a line in common, however short; exact where rounding is not. */
export function overlapCollinearly(a: unknown, b: unknown): boolean {
  return sweep([a, b], () => undefined, coverStretch);
}

function coverStretch(one: Box, other: Box): boolean {
  if (one.shape === other.shape) return false;
  const lies = ([x, y]: Position) =>
    (one.to[0] - one.from[0]) * (y - one.from[1]) === (one.to[1] - one.from[1]) * (x - one.from[0]);
  if (!lies(other.from) || !lies(other.to)) return false;
  const axis = one.east - one.west > one.north - one.south ? 0 : 1;
  const [low, high] = [one, other].map(({ from, to }) => [from[axis], to[axis]].sort((x, y) => x - y)) as [
    [number, number],
    [number, number],
  ];
  return Math.min(low[1], high[1]) > Math.max(low[0], high[0]);
}

/** Visits the pairs of segments whose bounding boxes overlap, until `visit` returns true. Returns whether it did. */
function sweep(
  shapes: readonly unknown[],
  report: (steps: number, pairs: number) => void,
  visit: (one: Box, other: Box) => boolean,
): boolean {
  const boxes: Box[] = [];
  for (const [place, shape] of shapes.entries()) addBoxes(shape, place, boxes);
  boxes.sort((a, b) => a.west - b.west);
  let steps = boxes.length;
  let pairs = 0;
  let active: Box[] = [];
  for (const box of boxes) {
    const still: Box[] = [];
    for (const other of active) {
      if (other.east < box.west) continue;
      still.push(other);
      if (other.south <= box.north && other.north >= box.south) {
        pairs++;
        if (visit(box, other)) return true;
      }
    }
    steps += active.length + 1;
    still.push(box);
    active = still;
    if (steps < REPORT_EVERY && pairs < REPORT_EVERY) continue;
    report(steps, 0);
    steps = 0;
    if (pairs > boxes.length + REPORT_EVERY) {
      report(0, pairs - boxes.length);
      pairs = boxes.length;
    }
  }
  // Neighbours always touch; they are no crossings.
  report(steps, Math.max(0, pairs - boxes.length));
  return false;
}

function addBoxes(coordinates: unknown, shape: number, boxes: Box[]): void {
  if (!Array.isArray(coordinates) || !Array.isArray(coordinates[0])) return;
  if (typeof coordinates[0][0] !== 'number') {
    for (const inner of coordinates) addBoxes(inner, shape, boxes);
    return;
  }
  const positions = coordinates as [number, number][];
  for (let at = 1; at < positions.length; at++) {
    const [from, to] = [positions[at - 1]!, positions[at]!];
    boxes.push({
      shape,
      from,
      to,
      west: Math.min(from[0], to[0]),
      south: Math.min(from[1], to[1]),
      east: Math.max(from[0], to[0]),
      north: Math.max(from[1], to[1]),
    });
  }
}
