import { computed, reactive, shallowRef, watch, type ComputedRef } from 'vue';
import { dropDraft, keepDraft, readDraft } from './drafts';

/** The parts of a query as text, such as its condition and its order. */
export type QueryFields = Record<string, string>;

/** The inputs of a query: the typed text, and the query whose result is shown. */
export interface TypedQuery<Fields extends QueryFields> {
  /** The typed text, for `v-model`. */
  readonly typed: Fields;
  /** Whether something is typed that was not run. */
  readonly altered: ComputedRef<boolean>;
  /** Text from an earlier visit that was not run, for another query than the one shown. */
  readonly offered: ComputedRef<Fields | undefined>;
  /** Puts the query whose result is shown into the inputs. */
  reset(): void;
  /** Puts the offered text into the inputs. */
  takeOffered(): void;
  dropOffered(): void;
}

interface Kept<Fields> {
  /** The query that was shown while this was typed. */
  shown: Fields;
  typed: Fields;
  offered?: Fields | undefined;
}

/**
 * The inputs of a query. Another query that is run (by a column header, an address, or the back button) replaces inputs
 * that were not edited. Edited text stays until it is run, reset or cleared.
 *
 * @param key the key of the draft while the page is left or reloaded
 * @param shown the query whose result is shown
 */
export function useTypedQuery<Fields extends QueryFields>(key: () => string, shown: () => Fields): TypedQuery<Fields> {
  const typed = reactive({ ...shown() }) as Fields;
  const offered = shallowRef<Fields>();
  let base = shown();
  let at = '';

  const differs = (a: Fields, b: Fields) => Object.keys(b).some((name) => a[name] !== b[name]);
  const put = (fields: Fields) => Object.assign(typed, fields);
  const keep = () => {
    if (!differs(typed, base) && !offered.value) return dropDraft(at);
    const value: Kept<Fields> = { shown: base, typed: { ...typed }, offered: offered.value };
    keepDraft({ key: at, value });
  };

  watch(
    [key, () => JSON.stringify(shown())],
    () => {
      const next = shown();
      if (key() !== at) {
        at = key();
        base = next;
        const kept = readDraft<Kept<Fields>>(at);
        const same = kept && !differs(kept.shown, next);
        offered.value = kept?.offered ?? (kept && !same && differs(kept.typed, next) ? kept.typed : undefined);
        put(same ? kept.typed : next);
      } else {
        const before = base;
        base = next;
        for (const name of Object.keys(next) as (keyof Fields)[]) {
          if (typed[name] === before[name]) typed[name] = next[name];
        }
      }
      keep();
    },
    { immediate: true, flush: 'sync' },
  );
  watch([() => ({ ...typed }), offered], keep, { flush: 'sync' });

  return {
    typed,
    altered: computed(() => differs(typed, shown())),
    offered: computed(() => offered.value),
    reset: () => put(shown()),
    takeOffered: () => {
      put({ ...typed, ...offered.value });
      offered.value = undefined;
    },
    dropOffered: () => (offered.value = undefined),
  };
}
