import { createHistogram, type RecordableHistogram } from 'node:perf_hooks';
import type { Sample } from '@uproar/protocol';
import { PrometheusMetrics } from './prometheus.js';
import type { Counts, Totals } from './sources.js';

/** How long things took, in milliseconds, since this was asked last. */
class Durations {
  readonly #histogram: RecordableHistogram = createHistogram({ lowest: 1, highest: 3_600_000_000, figures: 3 });

  /** Records a duration in milliseconds. */
  note(durationMs: number): void {
    this.#histogram.record(Math.max(1, Math.round(durationMs * 1000)));
  }

  /** The percentiles of the recorded durations, which are then cleared; null if there are none. */
  take(): Sample['commitMs'] {
    const histogram = this.#histogram;
    if (histogram.count === 0) return null;
    const [p50, p95, p99] = [50, 95, 99].map((percentile) => histogram.percentile(percentile) / 1000);
    histogram.reset();
    return { p50: p50!, p95: p95!, p99: p99! };
  }
}

/** What became of a commit. */
export type CommitResult = 'applied' | 'repeated' | 'refused' | 'failed';

/** Everything that passes through the service is noted here: for the samples of each second, and for the metrics. */
export class MetricsRecorder {
  readonly metrics = new PrometheusMetrics();
  readonly totals: Totals = { commits: 0, writes: 0, refusals: 0, requests: 0, deliveries: 0, deliveredBytes: 0 };
  #sampled: Totals = { ...this.totals };
  readonly #commitMs = new Durations();
  readonly #deliveryMs = new Durations();
  readonly #requestMs = new Durations();

  /** Notes a commit, from when it came until it was answered. */
  recordCommit(fate: CommitResult, writes: number, durationMs: number): void {
    const { totals, metrics } = this;
    this.#commitMs.note(durationMs);
    metrics.commits.inc({ outcome: fate });
    metrics.commitSeconds.observe(durationMs / 1000);
    if (fate === 'applied') {
      totals.commits++;
      totals.writes += writes;
    } else if (fate === 'refused') totals.refusals++;
  }

  /** Notes a group of commits that was written with one sync to disk. */
  recordGroup(commits: number, durationMs: number): void {
    this.metrics.groupCommits.observe(commits);
    this.metrics.groupSeconds.observe(durationMs / 1000);
  }

  /** Notes how long it took to find the views that a group of commits may concern, and how many there were. */
  recordMatch(views: number, durationMs: number): void {
    this.metrics.matcherSeconds.observe(durationMs / 1000);
    this.metrics.matchedViews.observe(views);
  }

  /** Notes how long it took to bring a group of commits to all views it concerned. */
  recordDistribution(durationMs: number): void {
    this.#deliveryMs.note(durationMs);
  }

  /** Notes an event that goes out to one connection. */
  recordDelivery(bytes: number): void {
    this.totals.deliveries++;
    this.totals.deliveredBytes += bytes;
  }

  /** Notes how long after its commit was on disk a change had been written to the sockets of all who watch a view. */
  recordDelay(durationMs: number): void {
    this.metrics.deliveryDelay.observe(durationMs / 1000);
  }

  /** Notes that changes were merged into one for a connection that had been behind for so long. */
  recordMerge(durationMs: number): void {
    this.metrics.merges.inc();
    this.metrics.lateDelay.observe(durationMs / 1000);
  }

  /** Notes a reading of documents for a query. */
  recordRead(documents: number, durationMs: number): void {
    this.metrics.querySeconds.observe(durationMs / 1000);
    this.metrics.documentsReturned.inc(documents);
  }

  /** Notes an attempt to deliver to a hook, and how long after its commit it ended. */
  recordHookDelivery(hook: string, delivered: boolean, delayMs: number): void {
    this.metrics.hookDeliveries.inc({ hook, outcome: delivered ? 'delivered' : 'failed' });
    if (delivered) this.metrics.hookDelay.observe(delayMs / 1000);
  }

  /** Notes an HTTP request that was answered. */
  recordRequest(method: string, route: string, status: number, durationMs: number): void {
    this.totals.requests++;
    this.#requestMs.note(durationMs);
    this.metrics.requestSeconds.observe({ method, route, status: `${Math.floor(status / 100)}xx` }, durationMs / 1000);
  }

  /** Notes an HTTP request whose client closed the connection before the answer was sent. */
  recordAborted(method: string, route: string): void {
    this.totals.requests++;
    this.metrics.abortedRequests.inc({ method, route });
  }

  /** Records a problem that was returned, by its type. */
  recordProblem(type: string): void {
    this.metrics.problems.inc({ problem: type.split('/').at(-1)! });
  }

  /** The counts since the previous call. */
  take(): Counts {
    const names = Object.keys(this.totals) as (keyof Totals)[];
    const counts = Object.fromEntries(names.map((name) => [name, this.totals[name] - this.#sampled[name]]));
    this.#sampled = { ...this.totals };
    return {
      ...(counts as unknown as Totals),
      commitMs: this.#commitMs.take(),
      deliveryMs: this.#deliveryMs.take(),
      requestMs: this.#requestMs.take(),
    };
  }
}
