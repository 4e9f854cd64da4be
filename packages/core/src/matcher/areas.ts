/** A rectangle: west, south, east, north. */
export type Box = readonly [number, number, number, number];

interface Entry<Item> {
  box: Box;
  item: Item;
}

/** Cells of sizes beyond these powers of two are not told apart. */
const SMALLEST = -40;
const LARGEST = 60;

/**
 * Finds, among very many boxes, those that touch a box. Boxes of about the same size lie in one grid, whose cells are as
 * large as they are, so that each lies in four cells at most.
 */
export class Areas<Item> {
  /** The cells of each grid, by the power of two that is the size of a cell. */
  readonly #grids = new Map<number, { cells: Map<string, Set<Entry<Item>>>; entries: Set<Entry<Item>> }>();
  readonly #entries = new Map<Item, Entry<Item>[]>();

  add(box: Box, item: Item): void {
    const entry = { box, item };
    const level = levelOf(box);
    let grid = this.#grids.get(level);
    if (!grid) this.#grids.set(level, (grid = { cells: new Map(), entries: new Set() }));
    grid.entries.add(entry);
    for (const key of cellsOf(box, level, 4) ?? []) {
      const cell = grid.cells.get(key);
      if (cell) cell.add(entry);
      else grid.cells.set(key, new Set([entry]));
    }
    const entries = this.#entries.get(item);
    if (entries) entries.push(entry);
    else this.#entries.set(item, [entry]);
  }

  /** Removes one box of an item. */
  remove(box: Box, item: Item): void {
    const entries = this.#entries.get(item) ?? [];
    const at = entries.findIndex((entry) => entry.box.every((side, index) => Object.is(side, box[index])));
    const [entry] = at === -1 ? [] : entries.splice(at, 1);
    if (!entry) return;
    if (entries.length === 0) this.#entries.delete(item);
    const level = levelOf(box);
    const grid = this.#grids.get(level)!;
    grid.entries.delete(entry);
    for (const key of cellsOf(box, level, 4) ?? []) {
      const cell = grid.cells.get(key);
      cell?.delete(entry);
      if (cell?.size === 0) grid.cells.delete(key);
    }
    if (grid.entries.size === 0) this.#grids.delete(level);
  }

  /** Calls `found` for each item with a box that touches `box`; perhaps more than once. */
  find(box: Box, found: (item: Item) => void): void {
    const test = (entry: Entry<Item>) => {
      if (touch(entry.box, box)) found(entry.item);
    };
    for (const [level, { cells, entries }] of this.#grids) {
      // Boxes that no grid can hold are in none of the cells, and looked at one by one.
      const keys = level === LARGEST ? undefined : cellsOf(box, level, entries.size);
      if (keys) for (const key of keys) cells.get(key)?.forEach(test);
      else entries.forEach(test);
    }
  }
}

function touch(a: Box, b: Box): boolean {
  return a[0] <= b[2] && a[2] >= b[0] && a[1] <= b[3] && a[3] >= b[1];
}

/** The power of two that is not smaller than a box; the largest for boxes whose cells a double cannot number. */
function levelOf(box: Box): number {
  const [west, south, east, north] = box;
  const size = Math.max(east - west, north - south);
  const level = Math.max(SMALLEST, size > 0 ? Math.ceil(Math.log2(size)) : SMALLEST);
  return level < LARGEST && box.every((side) => Number.isSafeInteger(Math.floor(side / 2 ** level))) ? level : LARGEST;
}

/** The cells that a box touches; undefined if they are more than `most`. */
function cellsOf([west, south, east, north]: Box, level: number, most: number): string[] | undefined {
  const size = 2 ** level;
  const [fromX, fromY, toX, toY] = [west, south, east, north].map((side) => Math.floor(side / size)) as [
    number,
    number,
    number,
    number,
  ];
  if (!((toX - fromX + 1) * (toY - fromY + 1) <= most) || ![fromX, fromY, toX, toY].every(Number.isSafeInteger)) {
    return undefined;
  }
  const keys: string[] = [];
  for (let x = fromX; x <= toX; x++) for (let y = fromY; y <= toY; y++) keys.push(`${x} ${y}`);
  return keys;
}
