import type { DependencyListener, DocumentChange, JsonPatch, Node, WorkMeter } from '@uproar/core';
import type { FullState } from './live-event.js';

/** What altered the state of a view. */
export interface Delta {
  seq: number;
  patch: JsonPatch;
  /** Whether a limit cuts the state; only when that has altered. */
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
  /** True when changes to come can be told without reading the state first. */
  readonly ready: boolean;
  /** The state now, or soon. It may be of a seq that has been overtaken by the time it is there. */
  read(): FullState | Promise<FullState>;
  /** What net changes of its collection do to the state; a promise when that cannot be told without reading. */
  apply(seq: number, changes: readonly DocumentChange[]): Delta | Promise<Delta>;
  /** Tells where else than in its collection changes concern it; called before anything is read. */
  listen?(listener: DependencyListener): void;
  /** Ends all that it told of in this way. */
  close?(): void;
  /** The state that it is at, where it follows commits with a delay; otherwise it is at that of the store. */
  readonly seq?: number;
  /** Counts the work of its conditions, where it has any. */
  readonly meters?: readonly WorkMeter[];
  /** True where it holds documents or totals in memory. */
  readonly holds?: boolean;
  /** What altered the state between `seq` and now; undefined when that cannot be told any more. */
  since(seq: number): Delta | undefined | Promise<Delta | undefined>;
}
