import { computed, type ComputedRef } from 'vue';
import { useRoute, useRouter, type LocationQuery } from 'vue-router';

/** The part of an address that says at which moment a result is shown, unchanged. */
export function momentIn({ at }: LocationQuery): LocationQuery {
  return at === undefined ? {} : { at };
}

/** The moment at which the result of this page is shown: a seq, `now` while the history begins, undefined for the live result. */
export function useMoment(): {
  at: ComputedRef<number | 'now' | undefined>;
  showAt(moment: number | 'now' | undefined): void;
} {
  const route = useRoute();
  const router = useRouter();
  return {
    at: computed(() => {
      const { at } = route.query;
      if (at === 'now') return at;
      return typeof at === 'string' && /^\d{1,15}$/.test(at) ? Number(at) : undefined;
    }),
    showAt: (moment) => {
      const { at: _, ...others } = route.query;
      const query = moment === undefined ? others : { ...others, at: String(moment) };
      void router.replace({ ...route, query } as never);
    },
  };
}
