import type { Presence } from '@uproar/client';
import { useWatch } from '@uproar/vue';
import { computed, onBeforeUnmount, watch, type ComputedRef } from 'vue';
import { useStore } from '../shared/injection';

/** Where consoles say which document they show. They do if the collection exists. */
const COLLECTION = 'viewers';

/** One for each page of the browser: a user can have several. */
const PAGE = crypto.randomUUID();

/**
 * Who else looks at a document now, by name; and says that this page does.
 *
 * @param address of the document: `balloons/bl-17`
 */
export function useViewers(address: () => string): ComputedRef<string[]> {
  const store = useStore();
  const view = useWatch(() => store.collection(COLLECTION).where`document = ${address()}`.watch());
  const collections = useWatch(() => store.watchCollections());
  const wanted = computed(() => collections.value?.byId.has(COLLECTION) === true && view.value?.state === 'live');
  let held: Promise<Presence> | undefined;
  watch(
    [wanted, address],
    ([shows, document]) => {
      if (!shows) return;
      const data = { document, name: nameOf(store.state) };
      held = held
        ? held.then(async (presence) => (await presence.update(data), presence))
        : store.collection(COLLECTION).present(PAGE, data);
      // A user whom the policy does not allow this can still read the document.
      held.catch(() => undefined);
    },
    { immediate: true },
  );
  onBeforeUnmount(() => {
    void held?.then(
      (presence) => presence.leave(),
      () => undefined,
    );
  });
  return computed(() => {
    const others = view.value?.documents.filter(({ id }) => id !== PAGE) ?? [];
    return [...new Set(others.map(({ data }) => String(data.name)))].sort();
  });
}

/** The name in the claims of the user, or else that of the account, token or key. */
function nameOf(state: ReturnType<typeof useStore>['state']): string {
  if (state.name !== 'online') return '';
  const { name, claims } = state.server.identity;
  return typeof claims?.name === 'string' ? claims.name : name;
}
