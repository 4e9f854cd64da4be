import type { Sample } from '@uproar/protocol';
import type { ByteBudget } from '../limits/byte-budget.js';
import type { OpenSockets } from '../limits/open-sockets.js';
import type { Store } from '../store/index.js';

/** The totals since the start of the service. */
export interface Totals {
  commits: number;
  writes: number;
  refusals: number;
  requests: number;
  deliveries: number;
  deliveredBytes: number;
}

/** The counts since the previous sample, and the percentiles of the durations among them. */
export type Counts = Totals & Pick<Sample, 'commitMs' | 'deliveryMs' | 'requestMs'>;

/** What the metrics are read from. */
export interface MetricsSources {
  store: Store;
  views: { readonly size: number; readonly watches: number; readonly endedForWork: number };
  connections: { readonly size: number; byTransport(): Record<string, number> };
  totals: Readonly<Totals>;
  takeCounts: () => Counts;
  bytes: ByteBudget;
  sockets: OpenSockets;
  /** Of each hook, by its name: the documents that wait, and 1 where it is paused or fails. */
  hooks: () => { waiting: Record<string, number>; failing: Record<string, number> };
}
