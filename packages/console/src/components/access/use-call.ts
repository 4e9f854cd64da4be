import { ConnectionError, ProblemError } from '@uproar/client';
import { ref, type Ref } from 'vue';

/** Runs calls to the store and keeps what went wrong with the last one, in words for people. */
export function useCall(): {
  busy: Ref<boolean>;
  failure: Ref<string>;
  run: <Result>(call: () => Promise<Result>) => Promise<Result | undefined>;
} {
  const busy = ref(false);
  const failure = ref('');
  const run = async <Result>(call: () => Promise<Result>): Promise<Result | undefined> => {
    busy.value = true;
    failure.value = '';
    try {
      return await call();
    } catch (error) {
      if (!(error instanceof ProblemError) && !(error instanceof ConnectionError)) throw error;
      failure.value = error.message;
      return undefined;
    } finally {
      busy.value = false;
    }
  };
  return { busy, failure, run };
}

/** A time for people, in their own zone. */
export function formatMoment(time: string | undefined): string {
  return time === undefined
    ? ''
    : new Date(time).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' });
}
