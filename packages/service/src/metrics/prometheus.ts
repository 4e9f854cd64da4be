import { statfsSync, statSync } from 'node:fs';
import { collectDefaultMetrics, Counter, Gauge, Histogram, Registry } from 'prom-client';
import { refills } from './refills.js';
import { databaseFile } from '../store/index.js';
import { VERSION } from '../version.js';
import type { MetricsSources } from './sources.js';

/** Metrics of the process with names that checkers of metrics refuse. */
const MISNAMED = ['nodejs_active_handles_total', 'nodejs_active_requests_total', 'nodejs_active_resources_total'];

/** How often the event loop is measured, in milliseconds. */
const LOOP_RESOLUTION_MS = 100;

/** Bounds of histograms, in seconds: from a tenth of a millisecond to ten seconds. */
const SECONDS = [0.0001, 0.00025, 0.0005, 0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10];
/** From one microsecond, for work in memory. */
const SHORT_SECONDS = [0.000001, 0.0000025, 0.000005, 0.00001, 0.000025, 0.00005, ...SECONDS.slice(0, 10)];
const COUNTS = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000];

/** What Prometheus and others collect, in the text format they share. Times are in seconds, sizes in bytes. */
export class PrometheusMetrics {
  readonly #registry = new Registry();

  readonly commits = this.#counter('uproar_commits_total', 'Commits, by outcome.', ['outcome']);
  readonly commitSeconds = this.#histogram(
    'uproar_commit_duration_seconds',
    'Time from the arrival of a commit until it is on disk and delivered to watchers.',
    SECONDS,
  );
  readonly groupCommits = this.#histogram('uproar_group_commits', 'Commits written with one sync to disk.', COUNTS);
  readonly groupSeconds = this.#histogram(
    'uproar_group_duration_seconds',
    'Time to evaluate, write and sync a group of commits.',
    SECONDS,
  );
  readonly matcherSeconds = this.#histogram(
    'uproar_matcher_duration_seconds',
    'Time to find the views that a group of commits may affect.',
    SHORT_SECONDS,
  );
  readonly matchedViews = this.#histogram('uproar_matched_views', 'Views that a group of commits may affect.', [
    0,
    ...COUNTS,
  ]);
  readonly deliveryDelay = this.#histogram(
    'uproar_delivery_delay_seconds',
    'Time from the sync of a commit until its change is written to all watchers of a view that keep up.',
    SECONDS,
  );
  readonly lateDelay = this.#histogram(
    'uproar_late_delivery_delay_seconds',
    'How long a slow connection was behind when it got the changes it had missed.',
    [...SECONDS, 30, 60, 300],
  );
  readonly merges = this.#counter('uproar_merges_total', 'Changes merged for slow connections.');
  readonly querySeconds = this.#histogram(
    'uproar_query_duration_seconds',
    'Time to read the documents of a query, including time in which other requests were served.',
    SECONDS,
  );
  readonly documentsReturned = this.#counter('uproar_documents_returned_total', 'Documents that queries returned.');
  readonly requestSeconds = this.#histogram(
    'uproar_http_request_duration_seconds',
    'HTTP requests, by method, route and class of status.',
    SECONDS,
    ['method', 'route', 'status'],
  );
  readonly abortedRequests = this.#counter(
    'uproar_http_aborted_requests_total',
    'HTTP requests whose client closed the connection before the answer was complete. Most watches end like this.',
    ['method', 'route'],
  );
  readonly problems = this.#counter('uproar_refusals_total', 'Problems returned, by type.', ['problem']);
  readonly hookDeliveries = this.#counter('uproar_hook_deliveries_total', 'Attempts to deliver to hooks, by outcome.', [
    'hook',
    'outcome',
  ]);
  readonly hookDelay = this.#histogram(
    'uproar_hook_delay_seconds',
    'Time from a commit until the receiver of a hook has taken its change.',
    [...SECONDS, 60, 600, 3600],
  );
  #sources: MetricsSources | undefined;

  /** Adds the metrics that are counted elsewhere, and the present values. */
  attach(sources: MetricsSources): void {
    this.#sources = sources;
    const { store, views, connections, totals, bytes, sockets } = sources;
    this.#total('uproar_writes_total', 'Writes of commits that were applied.', () => totals.writes);
    this.#total('uproar_deliveries_total', 'Events sent to watchers.', () => totals.deliveries);
    this.#total('uproar_delivered_bytes_total', 'Bytes of the events sent to watchers.', () => totals.deliveredBytes);
    this.#total('uproar_refills_total', 'Limited views filled again from the store.', () => refills.count);
    this.#gauge('uproar_commits_waiting', 'Commits waiting in the queue.', () => store.log.waiting);
    this.#gauge('uproar_views', 'Views: different queries that are watched.', () => views.size);
    this.#gauge('uproar_watches', 'Watches of all connections.', () => views.watches);
    this.#gauge('uproar_seq', 'The seq of the last commit.', () => store.log.seq);
    this.#gauge('uproar_journal_first_seq', 'The first seq in the journal.', () => store.journal.bounds().first);
    this.#gauge('uproar_journal_bytes', 'Bytes of the documents in the journal.', () => store.journal.sizeBytes);
    this.#gauge('uproar_store_bytes', 'Size of the store file and its write-ahead log.', () => {
      const file = databaseFile(store.directory);
      return [file, `${file}-wal`].reduce(
        (sum, name) => sum + (statSync(name, { throwIfNoEntry: false })?.size ?? 0),
        0,
      );
    });
    this.#gauge('uproar_disk_free_bytes', 'Free space on the disk of the data directory.', () => {
      const { bavail, bsize } = statfsSync(store.directory);
      return bavail * bsize;
    });
    this.#gauge(
      'uproar_held_bytes',
      'Memory held for clients: results, states of watches, unread responses.',
      () => bytes.total,
    );
    this.#totals(
      'uproar_hook_waiting_documents',
      'Documents with changes that a hook has not delivered yet.',
      'hook',
      () => sources.hooks().waiting,
      'gauge',
    );
    this.#totals(
      'uproar_hook_failing',
      'Hooks that are paused, or whose deliveries fail, have 1; others 0.',
      'hook',
      () => sources.hooks().failing,
      'gauge',
    );
    this.#gauge('uproar_sockets', 'Open connections, including those without a request.', () => sockets.size);
    this.#gauge('uproar_long_reads_running', 'Long reads in progress.', () => store.reader.load.running);
    this.#gauge('uproar_long_reads_waiting', 'Long reads waiting in the queue.', () => store.reader.load.waiting);
    this.#totals(
      'uproar_budget_refusals_total',
      'Requests refused, by exhausted budget.',
      'budget',
      () => bytes.refused,
    );
    this.#totals(
      'uproar_ended_total',
      'Connections and watches ended because a budget was exhausted, by reason.',
      'reason',
      () => ({
        ...sockets.ended,
        'live-work': views.endedForWork,
      }),
    );
    new Gauge({
      name: 'uproar_connections',
      help: 'Live connections, by transport.',
      labelNames: ['transport'],
      registers: [this.#registry],
      collect() {
        for (const [transport, count] of Object.entries(connections.byTransport())) this.set({ transport }, count);
      },
    });
    new Gauge({
      name: 'uproar_info',
      help: 'The running version; always 1.',
      labelNames: ['version', 'node'],
      registers: [this.#registry],
    }).set({ version: VERSION, node: process.version }, 1);
  }

  /** All metrics as text, with their content type. Metrics of the process are collected from the first call. */
  async write(): Promise<{ text: string; type: string }> {
    if (this.#sources && !this.#registry.getSingleMetric('process_cpu_seconds_total')) {
      collectDefaultMetrics({ register: this.#registry, eventLoopMonitoringPrecision: LOOP_RESOLUTION_MS });
      // Gauges that are named like counters; the same is there by type.
      for (const name of MISNAMED) this.#registry.removeSingleMetric(name);
    }
    return { text: await this.#registry.metrics(), type: this.#registry.contentType };
  }

  #counter<Label extends string>(name: string, help: string, labelNames: Label[] = []): Counter<Label> {
    return new Counter({ name, help, labelNames, registers: [this.#registry] });
  }

  #histogram<Label extends string>(
    name: string,
    help: string,
    buckets: number[],
    labelNames: Label[] = [],
  ): Histogram<Label> {
    return new Histogram({ name, help, buckets, labelNames, registers: [this.#registry] });
  }

  /** Counters or present values that are kept elsewhere, one for each value of a label. */
  #totals(
    name: string,
    help: string,
    label: string,
    read: () => Record<string, number>,
    kind: 'counter' | 'gauge' = 'counter',
  ): void {
    const Metric: typeof Counter | typeof Gauge = kind === 'counter' ? Counter : Gauge;
    new Metric({
      name,
      help,
      labelNames: [label],
      registers: [this.#registry],
      collect() {
        this.reset();
        for (const [value, count] of Object.entries(read())) this.inc({ [label]: value }, count);
      },
    });
  }

  /** A counter that is kept elsewhere. */
  #total(name: string, help: string, read: () => number): void {
    new Counter({
      name,
      help,
      registers: [this.#registry],
      collect() {
        this.reset();
        this.inc(read());
      },
    });
  }

  #gauge(name: string, help: string, read: () => number): void {
    new Gauge({
      name,
      help,
      registers: [this.#registry],
      collect() {
        this.set(read());
      },
    });
  }
}
