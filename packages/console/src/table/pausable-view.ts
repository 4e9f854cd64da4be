import type { Document, View } from '@uproar/client';
import { computed, onScopeDispose, shallowRef, watch, type ComputedRef, type Ref, type ShallowRef } from 'vue';

/** What a table draws: a view, and the changes since the previous frame. */
export interface Frame {
  view: View;
  /** The previous state of documents, by id; undefined for new documents. */
  altered: ReadonlyMap<string, Document | undefined>;
}

/** A view that is drawn once for each frame of the screen at most, and that can be paused. */
export interface PausableView {
  readonly frame: Readonly<ShallowRef<Frame | undefined>>;
  /** Whether it is paused; to be set. */
  readonly paused: Ref<boolean>;
  /** The number of documents changed since the pause. */
  readonly waiting: ComputedRef<number>;
}

const NONE: ReadonlyMap<string, Document | undefined> = new Map();

/** More changes at once than this are not lit up one by one. */
const MOST_LIT = 400;

/** Draws a view at a steady pace, however fast it changes. */
export function usePausableView(source: Readonly<Ref<View | undefined>>): PausableView {
  const frame = shallowRef<Frame>();
  const held = shallowRef(false);
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
        held.value = held.value && view?.state === 'stale';
        touched.value = new Map();
        if (!held.value) draw();
        return;
      }
      if (view.changes.length > 0) {
        const documents = touched.value;
        for (const { id, from } of view.changes) {
          if (!documents.has(id)) documents.set(id, from === undefined ? undefined : previous.documents[from]);
        }
        if (held.value) touched.value = new Map(documents);
      }
      if (!held.value) scheduled ??= requestAnimationFrame(draw);
    },
    { immediate: true, flush: 'sync' },
  );
  onScopeDispose(() => scheduled !== undefined && cancelAnimationFrame(scheduled));
  return {
    frame,
    paused: computed({
      get: () => held.value,
      set: (paused) => {
        if (scheduled !== undefined) cancelAnimationFrame(scheduled);
        draw();
        held.value = paused;
      },
    }),
    waiting: computed(() => (held.value ? touched.value.size : 0)),
  };
}
