import { onBeforeUnmount, ref, shallowRef, watch, type Ref, type ShallowRef } from 'vue';
import { describeFailure } from './failure';

/** A value that is polled while it is displayed. */
export interface Polled<Value> {
  readonly value: ShallowRef<Value | undefined>;
  /** Why it could not be had the last time, in words for people; empty where it could. */
  readonly failure: Ref<string>;
  /** Asks at once. */
  again(): void;
}

/** Polls a value: at once, when the dependencies of `ask` change, and regularly; not while the page is hidden. */
export function usePolled<Value>(
  everyMs: number,
  ask: (before: Value | undefined) => Promise<Value>,
  on: () => unknown = () => undefined,
): Polled<Value> {
  const value = shallowRef<Value>();
  const failure = ref('');
  let timer: ReturnType<typeof setTimeout> | undefined;
  let turn = 0;
  let ended = false;
  const run = async (): Promise<void> => {
    clearTimeout(timer);
    const mine = ++turn;
    if (!document.hidden) {
      try {
        const next = await ask(value.value);
        if (mine !== turn) return;
        value.value = next;
        failure.value = '';
      } catch (error) {
        if (mine !== turn) return;
        failure.value = describeFailure(error);
      }
    }
    if (!ended) timer = setTimeout(() => void run(), everyMs);
  };
  watch(on, () => void run(), { immediate: true });
  onBeforeUnmount(() => {
    ended = true;
    turn++;
    clearTimeout(timer);
  });
  return { value, failure, again: () => void run() };
}
