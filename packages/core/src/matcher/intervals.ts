import { compareBounds, type Bound } from '../query/conditions.js';

/** A range of numbers or of texts, open at a side that is undefined. */
export interface Interval {
  low: Bound | undefined;
  high: Bound | undefined;
}

interface TreeNode<Item> {
  interval: Interval;
  items: Set<Item>;
  priority: number;
  /** The interval below here that reaches highest. */
  highest: Bound | undefined;
  left: TreeNode<Item> | undefined;
  right: TreeNode<Item> | undefined;
}

/**
 * Finds, among very many intervals, the intervals that contain a value: a treap ordered by the low ends, each node knowing how high
 * its subtree reaches. Adding and removing take logarithmic time, finding that and the number of intervals found.
 */
export class Intervals<Item> {
  #root: TreeNode<Item> | undefined;
  #seed = 0x2545f491;
  #size = 0;

  /** How many different intervals there are. */
  get size(): number {
    return this.#size;
  }

  add(interval: Interval, item: Item): void {
    this.#root = this.#insert(this.#root, interval, item);
  }

  remove(interval: Interval, item: Item): void {
    this.#root = this.#delete(this.#root, interval, item);
  }

  /** Calls `found` for each item whose interval holds `value`. */
  find(value: string | number, found: (item: Item) => void): void {
    const visit = (node: TreeNode<Item> | undefined): void => {
      if (!node || !isBelow(value, node.highest)) return;
      visit(node.left);
      if (!isAbove(value, node.interval.low)) return;
      if (isBelow(value, node.interval.high)) for (const item of node.items) found(item);
      visit(node.right);
    };
    visit(this.#root);
  }

  #insert(node: TreeNode<Item> | undefined, interval: Interval, item: Item): TreeNode<Item> {
    if (!node) {
      this.#size++;
      return {
        interval,
        items: new Set([item]),
        priority: this.#random(),
        highest: interval.high,
        left: undefined,
        right: undefined,
      };
    }
    const side = compareIntervals(interval, node.interval);
    if (side === 0) {
      node.items.add(item);
      return node;
    }
    if (side < 0) {
      node.left = this.#insert(node.left, interval, item);
      if (node.left.priority > node.priority) return rotateRight(node);
    } else {
      node.right = this.#insert(node.right, interval, item);
      if (node.right.priority > node.priority) return rotateLeft(node);
    }
    return renew(node);
  }

  #delete(node: TreeNode<Item> | undefined, interval: Interval, item: Item): TreeNode<Item> | undefined {
    if (!node) return undefined;
    const side = compareIntervals(interval, node.interval);
    if (side < 0) node.left = this.#delete(node.left, interval, item);
    else if (side > 0) node.right = this.#delete(node.right, interval, item);
    else {
      node.items.delete(item);
      if (node.items.size > 0) return node;
      this.#size--;
      return merge(node.left, node.right);
    }
    return renew(node);
  }

  #random(): number {
    this.#seed ^= this.#seed << 13;
    this.#seed ^= this.#seed >>> 17;
    this.#seed ^= this.#seed << 5;
    return this.#seed >>> 0;
  }
}

function merge<Item>(left: TreeNode<Item> | undefined, right: TreeNode<Item> | undefined): TreeNode<Item> | undefined {
  if (!left || !right) return left ?? right;
  if (left.priority > right.priority) {
    left.right = merge(left.right, right);
    return renew(left);
  }
  right.left = merge(left, right.left);
  return renew(right);
}

function rotateRight<Item>(node: TreeNode<Item>): TreeNode<Item> {
  const top = node.left!;
  node.left = top.right;
  top.right = renew(node);
  return renew(top);
}

function rotateLeft<Item>(node: TreeNode<Item>): TreeNode<Item> {
  const top = node.right!;
  node.right = top.left;
  top.left = renew(node);
  return renew(top);
}

function renew<Item>(node: TreeNode<Item>): TreeNode<Item> {
  node.highest = node.interval.high;
  for (const child of [node.left, node.right]) {
    if (child && compareHighs(child.highest, node.highest) > 0) node.highest = child.highest;
  }
  return node;
}

function isAbove(value: string | number, low: Bound | undefined): boolean {
  if (!low) return true;
  const difference = compareBounds(value, low.value);
  return difference > 0 || (difference === 0 && low.inclusive);
}

function isBelow(value: string | number, high: Bound | undefined): boolean {
  if (!high) return true;
  const difference = compareBounds(value, high.value);
  return difference < 0 || (difference === 0 && high.inclusive);
}

function compareIntervals(a: Interval, b: Interval): number {
  return compareLows(a.low, b.low) || compareHighs(a.high, b.high);
}

function compareLows(a: Bound | undefined, b: Bound | undefined): number {
  if (!a || !b) return Number(Boolean(a)) - Number(Boolean(b));
  return compareBounds(a.value, b.value) || Number(b.inclusive) - Number(a.inclusive);
}

function compareHighs(a: Bound | undefined, b: Bound | undefined): number {
  if (!a || !b) return Number(Boolean(b)) - Number(Boolean(a));
  return compareBounds(a.value, b.value) || Number(a.inclusive) - Number(b.inclusive);
}
