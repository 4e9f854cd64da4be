import { computed, type ComputedRef } from 'vue';
import { useRoute, useRouter, type LocationQuery } from 'vue-router';

/** The ways in which a result can be drawn. */
export const SHOWS = ['table', 'map', 'chart', 'cards'] as const;
export type Show = (typeof SHOWS)[number];

/** How a result is drawn. Every part is in the address, so that it can be shared. */
export interface Presentation {
  show: Show;
  /** The field that is drawn: a place on the map, a number in the chart, the column of a card. Empty: the first that fits. */
  field: string;
  /** The field that names documents; empty: the first that fits. */
  label: string;
  /** The field that colours places. */
  colour: string;
  /** The base layer of the map: a collection, or the file that was opened. */
  base: string;
  /** Whether the map draws where places came from. */
  trails: boolean;
  /** How many minutes a chart goes back. */
  minutes: number;
}

const NAMES = ['show', 'field', 'label', 'colour', 'base', 'trails', 'minutes'] as const;
export const DEFAULT_MINUTES = 5;

/** Reads how a result is drawn from the members of an address, or of a saved query. */
export function readPresentation(part: Readonly<Record<string, unknown>>): Presentation {
  const text = (name: string) => (typeof part[name] === 'string' ? part[name] : '');
  const show = SHOWS.find((one) => one === part.show) ?? 'table';
  const minutes = Number(text('minutes'));
  return {
    show,
    ...{ field: text('field'), label: text('label'), colour: text('colour'), base: text('base') },
    trails: part.trails === 'yes',
    minutes: minutes > 0 && minutes <= 1440 ? minutes : DEFAULT_MINUTES,
  };
}

/** The members of an address that say how a result is drawn; what is as it is without them is left out. */
export function writePresentation(presentation: Presentation): Record<string, string> {
  const { show, trails, minutes, ...fields } = presentation;
  if (show === 'table') return {};
  const named = Object.entries(fields).filter(([, value]) => value !== '');
  return {
    show,
    ...Object.fromEntries(named),
    ...(trails ? { trails: 'yes' } : {}),
    ...(minutes === DEFAULT_MINUTES ? {} : { minutes: String(minutes) }),
  };
}

/** The part of an address that says how a result is drawn, unchanged. */
export function presentationIn(query: LocationQuery): LocationQuery {
  return Object.fromEntries(Object.entries(query).filter(([name]) => (NAMES as readonly string[]).includes(name)));
}

/** How the result of this page is drawn, from its address. */
export function usePresentation(): {
  presentation: ComputedRef<Presentation>;
  present(change: Partial<Presentation>): void;
} {
  const route = useRoute();
  const router = useRouter();
  const presentation = computed(() => readPresentation(route.query));
  return {
    presentation,
    present: (change) => {
      const others = Object.entries(route.query).filter(([name]) => !(NAMES as readonly string[]).includes(name));
      // Another kind of drawing begins with the fields that fit it.
      const fresh = change.show !== undefined && change.show !== presentation.value.show ? { field: '' } : {};
      const members = writePresentation({ ...presentation.value, ...fresh, ...change });
      void router.replace({ ...route, query: { ...Object.fromEntries(others), ...members } } as never);
    },
  };
}
