import type { Store } from '@uproar/client';
import type { JournalEvent, JournalPage } from '@uproar/protocol';
import { computed, onBeforeUnmount, ref, shallowRef, watch, type ComputedRef, type Ref, type ShallowRef } from 'vue';
import { describeFailure } from '../shared/failure';
import { followJournal, readJournal, type JournalPart } from '../shared/live-journal';
import { useOnReconnect } from '../shared/use-on-reconnect';

/** Commits looked through for one page. */
const PAGE = 200;
/** The most pages that one search reads. */
const MAX_PAGES = 25;
/** Changes kept in the list while it follows the journal, and changes that wait at most. */
const MAX_KEPT = 500;
/** How often the list moves at most, in milliseconds. */
const PACE_MS = 500;

/**
 * Reads the newest changes before a seq. While a page has no matching change, the search goes further back.
 *
 * @param wanted whether the result is still needed
 */
async function search(
  store: Store,
  part: JournalPart,
  before: number | 'now',
  wanted: () => boolean,
): Promise<JournalPage> {
  let page = await readJournal(store, part, before, PAGE);
  for (let read = 1; read < MAX_PAGES && page.events.length === 0 && page.more && wanted(); read++) {
    page = await readJournal(store, part, page.seq, PAGE);
  }
  return page;
}

/** A part of the journal, newest first, that follows new commits. */
export interface Journal {
  /** Changes without a gap between them. */
  readonly events: Readonly<ShallowRef<readonly JournalEvent[]>>;
  /** How many newer changes wait to be shown. */
  readonly waiting: ComputedRef<number>;
  readonly state: Ref<'loading' | 'live' | 'stale' | 'failed'>;
  readonly failure: Ref<string>;
  /** Whether the journal holds earlier changes than the ones shown. */
  readonly more: Ref<boolean>;
  /** Whether earlier changes are being read. */
  readonly reading: Ref<boolean>;
  showEarlier(): Promise<void>;
  /** Shows the newer changes that wait. */
  showNewer(): void;
}

/**
 * Follows a part of the journal.
 *
 * @param part the part; the list starts again when it changes
 * @param held whether the list must not move, because it is paused or scrolled down
 */
export function useJournal(store: Store, part: Readonly<Ref<JournalPart>>, held: () => boolean): Journal {
  const events = shallowRef<readonly JournalEvent[]>([]);
  const newer = shallowRef<readonly JournalEvent[]>([]);
  const state = ref<'loading' | 'live' | 'stale' | 'failed'>('loading');
  const failure = ref('');
  const more = ref(false);
  const reading = ref(false);
  /** Earlier changes are read from before this seq. */
  let oldest = 0;
  /** Whether changes were dropped between the ones that wait and the ones shown. */
  let gap = false;
  let stop = () => {};
  let ended = false;
  /** Changes that have arrived since the list moved, and the timer that shows them. */
  let arrived: JournalEvent[] = [];
  let timer: number | undefined;
  let movedMs = 0;

  /** The newest changes of a list, up to the most that is kept; whole commits, so that the rest can be read again. */
  const newest = (list: readonly JournalEvent[]): readonly JournalEvent[] => {
    const dropped = list[MAX_KEPT];
    if (!dropped) return list;
    const whole = list.slice(0, MAX_KEPT).filter(({ seq }) => seq !== dropped.seq);
    return whole.length > 0 ? whole : list.filter(({ seq }) => seq === dropped.seq);
  };
  const show = (list: readonly JournalEvent[]) => {
    events.value = newest(list);
    if (events.value.length === list.length) return;
    oldest = events.value.at(-1)!.seq;
    more.value = true;
  };
  const move = () => {
    clearTimeout(timer);
    timer = undefined;
    movedMs = performance.now();
    const list = [...arrived.toReversed(), ...newer.value];
    arrived = [];
    newer.value = newest(list);
    gap ||= newer.value.length < list.length;
    if (!held()) showNewer();
  };
  /** Limits how often the list moves. A page in the background has slow timers, so many changes move it at once. */
  const moveSoon = (fresh: readonly JournalEvent[]) => {
    arrived.push(...fresh);
    if (arrived.length > MAX_KEPT) move();
    else timer ??= window.setTimeout(move, movedMs + PACE_MS - performance.now());
  };
  const stopFollowing = () => {
    stop();
    stop = () => {};
    clearTimeout(timer);
    [arrived, timer] = [[], undefined];
  };
  const showNewer = () => {
    if (newer.value.length === 0) return;
    if (gap) {
      // The list continues from the newest entries; the gap is read on request.
      events.value = newer.value;
      oldest = newer.value.at(-1)!.seq;
      more.value = true;
    } else show([...newer.value, ...events.value]);
    [newer.value, gap] = [[], false];
  };

  const begin = async (): Promise<void> => {
    stopFollowing();
    const meant = part.value;
    [events.value, newer.value, gap, state.value, failure.value, reading.value] = [[], [], false, 'loading', '', false];
    try {
      // Commits made while the page is read arrive with the stream.
      const last = await readJournal(store, {}, 'now', 1);
      const page = await search(store, meant, 'now', () => part.value === meant && !ended);
      if (part.value !== meant || ended) return;
      [events.value, more.value, oldest] = [page.events, page.more, page.seq];
      const after = Math.max(0, last.seq - 1, page.events[0]?.seq ?? 0);
      stop = followJournal(store, meant, after, {
        events: moveSoon,
        state: (now) => (state.value = now),
        lost: () => void begin(),
      });
    } catch (error) {
      if (part.value !== meant) return;
      state.value = 'failed';
      failure.value = describeFailure(error);
    }
  };
  watch(part, () => void begin(), { immediate: true });
  useOnReconnect(() => {
    if (state.value === 'failed') void begin();
  });
  onBeforeUnmount(() => {
    ended = true;
    stopFollowing();
  });

  const showEarlier = async (): Promise<void> => {
    if (reading.value) return;
    reading.value = true;
    const meant = part.value;
    const before = oldest;
    // The query may have changed in the meantime, or the list may have been cut.
    const wanted = () => part.value === meant && oldest === before;
    try {
      const page = await search(store, meant, before, wanted);
      if (!wanted()) return;
      [events.value, more.value, oldest] = [[...events.value, ...page.events], page.more, page.seq];
      failure.value = '';
    } catch (error) {
      if (part.value === meant) failure.value = describeFailure(error);
    } finally {
      if (part.value === meant) reading.value = false;
    }
  };
  return { events, waiting: computed(() => newer.value.length), state, failure, more, reading, showEarlier, showNewer };
}
