import type { Document } from '@uproar/client';

/** A point on the map, in units of the projection. */
export interface MovingPoint {
  readonly id: string;
  document: Document;
  /** Where it was when it began to move, and where it goes. */
  fromX: number;
  fromY: number;
  toX: number;
  toY: number;
  /** When it began to move, in milliseconds; 0 for a point that stands still. */
  since: number;
  /** The place of its colour. */
  colour: number;
  /** Where it came from: pairs of coordinates, the oldest first. */
  readonly trail: number[];
}

/** How long a point takes to its new place. */
export const MOVE_MS = 700;
/** Places that a trail keeps. */
const MOST_TRAIL = 40;

/** Where a point is drawn at a moment. */
export function positionAt(point: MovingPoint, now: number): readonly [x: number, y: number] {
  const part = point.since === 0 ? 1 : Math.min(1, (now - point.since) / MOVE_MS);
  if (part === 1) return [point.toX, point.toY];
  // Slows down towards the end.
  const eased = 1 - (1 - part) * (1 - part);
  return [point.fromX + (point.toX - point.fromX) * eased, point.fromY + (point.toY - point.fromY) * eased];
}

/** The points of a result. A point whose place changes moves there. */
export class MovingPoints {
  readonly byId = new Map<string, MovingPoint>();
  #movingUntil = 0;

  /** Whether any point moves at a moment. */
  isMoving(now: number): boolean {
    return now < this.#movingUntil;
  }

  /**
   * Takes over the documents that are shown now.
   *
   * @param place gives the place of a document in units of the projection; undefined if it has none
   * @param recolour whether documents that did not change may have another colour
   * @param still whether points jump instead of moving
   * @returns the number of documents that are points
   */
  update(
    documents: readonly Document[],
    place: (document: Document) => readonly [number, number] | undefined,
    colourOf: (document: Document) => number,
    now: number,
    still: boolean,
    recolour = true,
  ): number {
    const gone = new Set(this.byId.keys());
    for (const document of documents) {
      const known = this.byId.get(document.id);
      if (known?.document === document) {
        gone.delete(document.id);
        if (recolour) known.colour = colourOf(document);
        continue;
      }
      const at = place(document);
      if (!at) continue;
      gone.delete(document.id);
      if (known) this.#move(known, document, at, now, still);
      else this.byId.set(document.id, newPoint(document, at));
      this.byId.get(document.id)!.colour = colourOf(document);
    }
    for (const id of gone) this.byId.delete(id);
    return this.byId.size;
  }

  #move(point: MovingPoint, document: Document, [x, y]: readonly [number, number], now: number, still: boolean): void {
    point.document = document;
    if (x === point.toX && y === point.toY) return;
    point.trail.push(point.toX, point.toY);
    if (point.trail.length > 2 * MOST_TRAIL) point.trail.splice(0, 2);
    if (still) Object.assign(point, { fromX: x, fromY: y, since: 0 });
    else {
      [point.fromX, point.fromY] = positionAt(point, now);
      point.since = now;
      this.#movingUntil = now + MOVE_MS;
    }
    point.toX = x;
    point.toY = y;
  }

  /** The point that is nearest to a position and at most so far away, at a moment. */
  nearest(x: number, y: number, within: number, now: number): MovingPoint | undefined {
    let best: MovingPoint | undefined;
    let least = within * within;
    for (const point of this.byId.values()) {
      const [px, py] = positionAt(point, now);
      const distance = (px - x) ** 2 + (py - y) ** 2;
      if (distance > least) continue;
      least = distance;
      best = point;
    }
    return best;
  }

  /** The ids of the points in a box. */
  within([west, south, east, north]: readonly [number, number, number, number]): string[] {
    return [...this.byId.values()]
      .filter(({ toX, toY }) => toX >= west && toX <= east && toY >= south && toY <= north)
      .map(({ id }) => id);
  }

  /** The box around all points; undefined if there are none. */
  extent(): [number, number, number, number] | undefined {
    if (this.byId.size === 0) return undefined;
    const box: [number, number, number, number] = [Infinity, Infinity, -Infinity, -Infinity];
    for (const { toX, toY } of this.byId.values()) {
      box[0] = Math.min(box[0], toX);
      box[1] = Math.min(box[1], toY);
      box[2] = Math.max(box[2], toX);
      box[3] = Math.max(box[3], toY);
    }
    return box;
  }
}

function newPoint(document: Document, [x, y]: readonly [number, number]): MovingPoint {
  return { id: document.id, document, fromX: x, fromY: y, toX: x, toY: y, since: 0, colour: 0, trail: [] };
}
