import { ConnectionError, ProblemError } from '@uproar/client';
import { ref, type Ref } from 'vue';
import { describeFailure } from './failure';
import { useOnReconnect } from './use-on-reconnect';

/**
 * Runs calls to the store and keeps the error of the last one, in words for people.
 *
 * @param load reads the displayed data; called again when the store is reachable again
 */
export function useCall(load: () => unknown = () => undefined): {
  busy: Ref<boolean>;
  failure: Ref<string>;
  run: <Result>(call: () => Promise<Result>) => Promise<Result | undefined>;
} {
  const busy = ref(false);
  const failure = ref('');
  let unreachable = false;
  const run = async <Result>(call: () => Promise<Result>): Promise<Result | undefined> => {
    busy.value = true;
    failure.value = '';
    unreachable = false;
    try {
      return await call();
    } catch (error) {
      if (!(error instanceof ProblemError) && !(error instanceof ConnectionError)) throw error;
      failure.value = describeFailure(error);
      unreachable = error instanceof ConnectionError;
      return undefined;
    } finally {
      busy.value = false;
    }
  };
  useOnReconnect(() => {
    if (!unreachable) return;
    failure.value = '';
    load();
  });
  return { busy, failure, run };
}

/** A time for people, in their own zone. */
export function formatMoment(time: string | undefined): string {
  return time === undefined
    ? ''
    : new Date(time).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' });
}
