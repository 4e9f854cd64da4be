import { statSync } from 'node:fs';
import { monitorEventLoopDelay } from 'node:perf_hooks';
import { getHeapStatistics } from 'node:v8';
import { formatTime } from '@uproar/core';
import type { Sample } from '@uproar/protocol';
import { databaseFile } from '../store/index.js';
import type { MetricsSources } from './sources.js';

const INTERVAL_MS = 1000;
/** A quarter of an hour. */
const KEPT = 900;

/** Looks at the event loop this often. More often would cost an idle service more than all other metrics together. */
const RESOLUTION_MS = 100;

/** Takes a sample of the service each second and keeps those of the last quarter of an hour. */
export class Sampler {
  readonly startedMs = Date.now();
  readonly #sources: MetricsSources;
  readonly #loop = monitorEventLoopDelay({ resolution: RESOLUTION_MS });
  readonly #timer: NodeJS.Timeout;
  #samples: Sample[] = [];

  constructor(sources: MetricsSources) {
    this.#sources = sources;
    this.#loop.enable();
    this.#timer = setInterval(() => this.#sample(), INTERVAL_MS).unref();
  }

  /** The samples after a moment, the oldest first. */
  after(timeMs: number): Sample[] {
    return this.#samples.filter(({ time }) => Date.parse(time) > timeMs);
  }

  close(): void {
    clearInterval(this.#timer);
    this.#loop.disable();
  }

  #sample(): void {
    const { store, views, connections, takeCounts } = this.#sources;
    const late = this.#loop.max / 1e6 - RESOLUTION_MS;
    this.#loop.reset();
    this.#samples.push({
      time: formatTime(Date.now()),
      ...takeCounts(),
      loopDelayMs: Math.max(0, Math.round(late * 10) / 10),
      connections: connections.size,
      views: views.size,
      waiting: store.log.waiting,
      memoryBytes: process.memoryUsage.rss(),
      heapBytes: getHeapStatistics().used_heap_size,
      storeBytes: sizeOf(databaseFile(store.directory)) + sizeOf(`${databaseFile(store.directory)}-wal`),
      seq: store.log.seq,
    });
    // Cut occasionally, so that the array is not moved each second.
    if (this.#samples.length > 2 * KEPT) this.#samples = this.#samples.slice(-KEPT);
  }
}

function sizeOf(file: string): number {
  return statSync(file, { throwIfNoEntry: false })?.size ?? 0;
}
