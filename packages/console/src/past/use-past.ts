import { ProblemError, type Document, type Store, type View } from '@uproar/client';
import { isDecidable, prepareQuery, type QueryForm } from '@uproar/core';
import { computed, onScopeDispose, ref, shallowRef, watch, type ComputedRef, type Ref, type ShallowRef } from 'vue';
import { describeFailure } from '../shared/failure';
import { readJournal } from '../shared/live-journal';
import type { Frame } from '../table/pausable-view';
import { changesOf, RewoundResult, type Change } from './rewound-result';

/** Documents that a result may have to be rewound here. */
const MOST_DOCUMENTS = 20_000;
/** Changes that are kept to move over. */
const MOST_CHANGES = 20_000;
/** Commits on a page of the journal. Few of them may concern the result. */
const PAGE = 1000;
/** Pages that are read at once. */
const MOST_PAGES = 50;
/** Changes that are read at first. */
const FIRST_CHANGES = 1000;
/** While playing, pauses without a change are not longer than this. */
const LONGEST_PAUSE_MS = 1500;
/** More changes at once than this are not lit up one by one. */
const MOST_LIT = 400;

/** How fast the past can be played. */
export const SPEEDS = [1, 10, 60, 600] as const;

/** A result at an earlier moment, which can be moved. */
export interface Past {
  /** What to draw: the result at the moment; undefined while it is loaded. */
  readonly frame: Readonly<ShallowRef<Frame | undefined>>;
  /** The known changes, the oldest first, and how many of them are made at the moment. */
  readonly changes: Readonly<ShallowRef<readonly Change[]>>;
  readonly position: Readonly<Ref<number>>;
  /** The newest change that is made; undefined before the first known one. */
  readonly change: ComputedRef<Change | undefined>;
  /** The seq of the moment. */
  readonly seq: ComputedRef<number>;
  /** Whether the journal has earlier changes which are not loaded. */
  readonly more: Readonly<Ref<boolean>>;
  readonly loading: Readonly<Ref<boolean>>;
  readonly failure: Readonly<Ref<string>>;
  readonly playing: Readonly<Ref<boolean>>;
  /** To be set. */
  readonly speed: Ref<(typeof SPEEDS)[number]>;
  moveTo(position: number): void;
  /** Loads earlier changes. */
  loadEarlier(): Promise<void>;
  /** Moves to the state after a seq, or at a time in milliseconds since 1970; loads earlier changes for that where it must. */
  goTo(target: { seq: number } | { time: number }): Promise<void>;
  play(): void;
  stop(): void;
}

/** Opens the past of a query, beginning with its present result. A new query begins anew, at the same seq. */
export function usePast(store: Store, form: () => QueryForm, startAt: number | undefined): Past {
  const frame = shallowRef<Frame>();
  const changes = shallowRef<readonly Change[]>([]);
  const position = ref(0);
  const more = ref(false);
  const loading = ref(false);
  const failure = ref('');
  const playing = ref(false);
  const speed = ref<(typeof SPEEDS)[number]>(10);
  let result: RewoundResult | undefined;
  let oldestSeq = 0;
  let newestSeq = 0;
  let turn = 0;

  const change = computed(() => changes.value[position.value - 1]);
  const seq = computed(() =>
    position.value === changes.value.length ? newestSeq : (change.value?.seq ?? oldestSeq - 1),
  );

  const draw = (altered: ReadonlyMap<string, Document | undefined>) => {
    const view = viewOf(result!.documents, seq.value);
    frame.value = { view, altered: altered.size <= MOST_LIT ? altered : new Map() };
  };
  const moveTo = (to: number) => {
    if (!result) return;
    const altered = result.moveTo(to);
    position.value = result.position;
    draw(altered);
  };

  /** Runs a load, unless another query was asked for meanwhile. */
  const load = async (act: (isCurrent: () => boolean) => Promise<void>) => {
    const mine = turn;
    loading.value = true;
    failure.value = '';
    try {
      await act(() => mine === turn);
    } catch (error) {
      if (mine === turn) failure.value = describeFailure(error);
    } finally {
      if (mine === turn) loading.value = false;
    }
  };

  const readPage = async (isCurrent: () => boolean) => {
    const { from, where } = form();
    const page = await readJournal(
      store,
      { collection: from, where: typeof where === 'string' ? where : undefined },
      oldestSeq,
      PAGE,
    );
    if (!isCurrent()) return;
    result!.prepend(changesOf(page.events));
    changes.value = result!.changes;
    position.value = result!.position;
    oldestSeq = page.seq;
    more.value = page.more;
  };

  /** Reads pages as long as something holds, but not more than {@link MOST_PAGES}. */
  const readWhile = async (holds: () => boolean, isCurrent: () => boolean) => {
    for (let pages = 0; pages < MOST_PAGES && more.value && holds(); pages++) {
      await readPage(isCurrent);
      if (!isCurrent()) return;
    }
  };

  const begin = (at: number | undefined) =>
    load(async (isCurrent) => {
      const query = prepareQuery(form());
      if (query.where && !isDecidable(query.where)) {
        throw new Error('The history of a condition with claims cannot be shown.');
      }
      const all = await readAll(store, form());
      if (!isCurrent()) return;
      result = new RewoundResult(query, all.documents);
      newestSeq = all.seq;
      oldestSeq = all.seq + 1;
      more.value = true;
      await readWhile(() => changes.value.length < FIRST_CHANGES, isCurrent);
      if (!isCurrent()) return;
      draw(new Map());
      if (at !== undefined && at < newestSeq) await seek({ seq: at }, isCurrent);
    });

  const seek = async (target: { seq: number } | { time: number }, isCurrent: () => boolean) => {
    const isAfter = (one: Change) => ('seq' in target ? one.seq > target.seq : Date.parse(one.time) > target.time);
    await readWhile(() => changes.value.length < MOST_CHANGES && changes.value.every(isAfter), isCurrent);
    if (!isCurrent()) return;
    const first = changes.value.findIndex(isAfter);
    moveTo(first === -1 ? changes.value.length : first);
    if (first === 0 && more.value)
      failure.value = 'That is further back than what is loaded. Load earlier changes first.';
  };

  let timer: number | undefined;
  const stop = () => {
    playing.value = false;
    if (timer !== undefined) cancelAnimationFrame(timer);
    timer = undefined;
  };
  const play = () => {
    if (position.value === changes.value.length) moveTo(0);
    playing.value = true;
    let last = performance.now();
    let clock = Date.parse(changes.value[Math.max(0, position.value - 1)]?.time ?? '');
    const tick = (now: number) => {
      const next = changes.value[position.value];
      if (!next) return stop();
      clock += (now - last) * speed.value;
      last = now;
      // Long pauses are cut short.
      clock = Math.max(clock, Date.parse(next.time) - LONGEST_PAUSE_MS * speed.value);
      let to = position.value;
      while (to < changes.value.length && Date.parse(changes.value[to]!.time) <= clock) to++;
      if (to > position.value) moveTo(to);
      timer = requestAnimationFrame(tick);
    };
    timer = requestAnimationFrame(tick);
  };

  watch(
    () => JSON.stringify(form()),
    (_, before) => {
      const at = before === undefined ? startAt : seq.value;
      turn++;
      stop();
      result = undefined;
      [frame.value, changes.value, position.value] = [undefined, [], 0];
      void begin(at);
    },
    { immediate: true },
  );
  onScopeDispose(() => {
    turn++;
    stop();
  });

  return {
    ...{ frame, changes, position, change, seq, more, loading, failure, playing, speed },
    moveTo: (to) => {
      stop();
      moveTo(to);
    },
    loadEarlier: () => {
      const known = changes.value.length;
      const isNothingNew = () => changes.value.length === known;
      if (known < MOST_CHANGES) return load((isCurrent) => readWhile(isNothingNew, isCurrent));
      failure.value = `At most ${MOST_CHANGES.toLocaleString()} changes can be loaded.`;
      return Promise.resolve();
    },
    goTo: (target) => {
      stop();
      return load((isCurrent) => seek(target, isCurrent));
    },
    ...{ play, stop },
  };
}

/** All documents that match a query, whatever its limit, at one seq. */
async function readAll(store: Store, { from, where }: QueryForm): Promise<View> {
  const condition = where === undefined ? {} : { where: where as string };
  const documents = store.collection(from);
  const [counted] = (await documents.list({ ...condition, summary: 'count()' })).documents;
  if (Number(counted?.data['count()']) > MOST_DOCUMENTS) {
    throw new Error(
      `The history of at most ${MOST_DOCUMENTS.toLocaleString()} documents can be shown. Narrow the condition.`,
    );
  }
  const watch = documents.watch(condition);
  return new Promise((resolve, reject) => {
    const stop = watch.subscribe((view) => {
      if (view.state === 'loading') return;
      if (view.error) reject(new ProblemError(view.error));
      else resolve(view);
      queueMicrotask(() => stop());
    });
  });
}

function viewOf(documents: readonly Document[], seq: number): View {
  let byId: ReadonlyMap<string, Document> | undefined;
  return {
    state: 'live',
    documents,
    get byId() {
      return (byId ??= new Map(documents.map((document) => [document.id, document])));
    },
    changes: [],
    more: false,
    seq,
    pending: new Set(),
  };
}
