import { useConnection } from '@uproar/vue';
import { watch } from 'vue';
import { useStore } from './injection';

/** Does something whenever the connection to the store is there again, such as to read again what could not be read. */
export function useOnReconnect(act: () => unknown): void {
  const connection = useConnection(useStore());
  watch(
    () => connection.value.name,
    (name) => {
      if (name === 'online') act();
    },
  );
}
