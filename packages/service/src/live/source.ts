import type { DependencyListener, DocumentChange, JsonPatch, Node, WorkMeter } from '@uproar/core';
import type { FullState } from './live-event.js';

/** A change of the state of a view. */
export interface Delta {
  seq: number;
  patch: JsonPatch;
  /** Whether the limit cuts the result; present only if this has changed. */
  more?: boolean | undefined;
}

/** Where a view gets its state and its changes from. */
export interface Source {
  /** The same for all watches that show the same. */
  readonly key: string;
  /** The collection whose commits concern it; undefined: the list of collections itself. */
  readonly collection: string | undefined;
  /** The condition that the matcher files it under; undefined: every document of the collection concerns it. */
  readonly where: Node | undefined;
  /** True if future changes can be computed without reading the state first. */
  readonly ready: boolean;
  /** The state now, or soon. It may be of a seq that has been overtaken by the time it is there. */
  read(): FullState | Promise<FullState>;
  /** The effect of net changes of its collection on the state; a promise if reading is needed. */
  apply(seq: number, changes: readonly DocumentChange[]): Delta | Promise<Delta>;
  /** Declares further dependencies, outside its own collection. Called before anything is read. */
  listen?(listener: DependencyListener): void;
  /** Removes all its dependencies. */
  close?(): void;
  /** The state that it is at, where it follows commits with a delay; otherwise it is at that of the store. */
  readonly seq?: number;
  /** Counts the work of its conditions, where it has any. */
  readonly meters?: readonly WorkMeter[];
  /** True where it holds documents or totals in memory. */
  readonly holds?: boolean;
  /** The change of the state between `seq` and now; undefined if it is no longer available. */
  since(seq: number): Delta | undefined | Promise<Delta | undefined>;
}
