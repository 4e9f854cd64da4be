import type { Document, View } from '@uproar/client';
import { computed, onScopeDispose, shallowRef, watch, type ComputedRef, type Ref, type ShallowRef } from 'vue';

/** What a table draws: a view, and what has altered since the one it drew before. */
export interface Frame {
  view: View;
  /** Documents as they were before, by id; undefined for those that came. */
  altered: ReadonlyMap<string, Document | undefined>;
}

/** A view that is drawn once for each frame of the screen at most, and that can be held still. */
export interface CalmView {
  readonly frame: Readonly<ShallowRef<Frame | undefined>>;
  readonly paused: Readonly<Ref<boolean>>;
  /** How many documents have altered since it was held still. */
  readonly waiting: ComputedRef<number>;
  pause(): void;
  go(): void;
}

const NONE: ReadonlyMap<string, Document | undefined> = new Map();

/** More changes at once than this are not lit up one by one. */
const MOST_LIT = 400;

/** Draws a view calmly, however fast it alters. */
export function useCalmView(source: Readonly<Ref<View | undefined>>): CalmView {
  const frame = shallowRef<Frame>();
  const paused = shallowRef(false);
  const touched = shallowRef(new Map<string, Document | undefined>());
  let scheduled: number | undefined;

  const draw = () => {
    scheduled = undefined;
    const view = source.value;
    const altered = touched.value;
    touched.value = new Map();
    frame.value = view && { view, altered: altered.size <= MOST_LIT ? altered : NONE };
  };
  watch(
    source,
    (view, previous) => {
      const goesOn = view && previous && frame.value && view.state === 'live' && frame.value.view.state !== 'loading';
      if (!goesOn) {
        if (scheduled !== undefined) cancelAnimationFrame(scheduled);
        paused.value = paused.value && view?.state === 'stale';
        touched.value = new Map();
        if (!paused.value) draw();
        return;
      }
      if (view.changes.length > 0) {
        const documents = touched.value;
        for (const { id, from } of view.changes) {
          if (!documents.has(id)) documents.set(id, from === undefined ? undefined : previous.documents[from]);
        }
        if (paused.value) touched.value = new Map(documents);
      }
      if (!paused.value) scheduled ??= requestAnimationFrame(draw);
    },
    { immediate: true, flush: 'sync' },
  );
  onScopeDispose(() => scheduled !== undefined && cancelAnimationFrame(scheduled));
  return {
    frame,
    paused,
    waiting: computed(() => (paused.value ? touched.value.size : 0)),
    pause: () => {
      if (scheduled !== undefined) cancelAnimationFrame(scheduled);
      draw();
      paused.value = true;
    },
    go: () => {
      paused.value = false;
      draw();
    },
  };
}
