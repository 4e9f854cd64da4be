import { createHistogram, type RecordableHistogram } from 'node:perf_hooks';
import type { Sample } from '@uproar/protocol';

/** How long things took, in milliseconds, since this was asked last. */
export class Durations {
  readonly #histogram: RecordableHistogram = createHistogram({ lowest: 1, highest: 3_600_000_000, figures: 3 });

  /** Notes that something took so many milliseconds. */
  note(durationMs: number): void {
    this.#histogram.record(Math.max(1, Math.round(durationMs * 1000)));
  }

  /** The percentiles of what was noted, which is forgotten; null where nothing was. */
  take(): Sample['commitMs'] {
    const histogram = this.#histogram;
    if (histogram.count === 0) return null;
    const [p50, p95, p99] = [50, 95, 99].map((percentile) => histogram.percentile(percentile) / 1000);
    histogram.reset();
    return { p50: p50!, p95: p95!, p99: p99! };
  }
}

/** What passes through the service, counted since this was sampled last. */
export class Traffic {
  commits = 0;
  writes = 0;
  refusals = 0;
  requests = 0;
  deliveries = 0;
  deliveredBytes = 0;
  readonly commitMs = new Durations();
  readonly deliveryMs = new Durations();
  readonly requestMs = new Durations();

  /** What was counted, which begins anew. */
  take() {
    const { commits, writes, refusals, requests, deliveries, deliveredBytes } = this;
    this.commits = this.writes = this.refusals = this.requests = this.deliveries = this.deliveredBytes = 0;
    const [commitMs, deliveryMs, requestMs] = [this.commitMs, this.deliveryMs, this.requestMs].map((durations) =>
      durations.take(),
    );
    return {
      ...{ commits, writes, refusals, requests, deliveries, deliveredBytes },
      ...{ commitMs: commitMs!, deliveryMs: deliveryMs!, requestMs: requestMs! },
    };
  }
}
