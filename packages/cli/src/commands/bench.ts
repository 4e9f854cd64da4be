import { createHistogram } from 'node:perf_hooks';
import type { Store } from '@uproar/client';
import { formatMs } from '@uproar/core';
import type { Command } from 'commander';
import pc from 'picocolors';
import { parseCount } from '../settings/amounts.js';
import { connectTo, targetOf, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson, printTable } from '../output/output.js';
import { ProgressBar } from '../output/progress-bar.js';

interface Options extends StoreOptions {
  writers: string;
  watchers: string;
  seconds: string;
  json?: boolean;
}

/** The collection of the test documents. They are deleted at the end; the empty collection stays. */
const COLLECTION = 'bench';

/** The number of documents of each writer, which it writes in turn. */
const DOCUMENTS = 10;
const MOST = { writers: 200, watchers: 500, seconds: 60 };

/** `uproar bench`: measures write throughput and delivery latency. */
export function addBench(program: Command): void {
  withStoreOptions(program.command('bench'))
    .summary('measure write throughput and delivery latency from here')
    .description(
      'Writes to the collection "bench" for a few seconds, over separate connections, while others watch it. Then deletes the documents. ' +
        'The journal keeps the written documents.',
    )
    .option('--writers <number>', `number of writing connections (up to ${MOST.writers})`, '8')
    .option('--watchers <number>', `number of watching connections (up to ${MOST.watchers})`, '4')
    .option('--seconds <number>', `duration (up to ${MOST.seconds})`, '5')
    .option('--json', 'print the result as JSON')
    .addHelpText('after', '\nExamples:\n  uproar bench\n  uproar bench --writers 50 --watchers 100 --seconds 10 --json')
    .action(bench);
}

async function bench(options: Options): Promise<void> {
  const counts = {
    writers: limited(options.writers, MOST.writers),
    watchers: limited(options.watchers, MOST.watchers),
    seconds: limited(options.seconds, MOST.seconds),
  };
  const target = targetOf(options);
  const stores: Store[] = [];
  const open = (device: string) => {
    const store = connectTo(target, device);
    stores.push(store);
    return store;
  };
  const run = Math.random().toString(36).slice(2, 10);
  const [commits, deliveries] = [createHistogram({ figures: 3 }), createHistogram({ figures: 3 })];
  const bar = new ProgressBar('{written} written');
  try {
    const writers = Array.from({ length: counts.writers }, (_, n) => open(`bench-writer-${n + 1}`));
    const watchers = Array.from({ length: counts.watchers }, (_, n) => open(`bench-watcher-${n + 1}`));
    await Promise.all(stores.map((store) => store.ready()));
    for (const watcher of watchers) {
      watcher
        .collection(COLLECTION)
        .watch({ where: `run = '${run}'` })
        .subscribe(({ changes, documents }) => {
          const now = performance.now();
          for (const { to } of changes) {
            if (to !== undefined) note(deliveries, now - Number(documents[to]!.data.sent));
          }
        });
    }
    const started = performance.now();
    const endMs = started + counts.seconds * 1000;
    let written = 0;
    const timer = setInterval(() => {
      bar.update(Math.min(counts.seconds * 10, Math.round((performance.now() - started) / 100)), counts.seconds * 10, {
        written,
      });
    }, 100);
    await Promise.all(
      writers.map(async (store, writer) => {
        for (let n = 0; performance.now() < endMs; n++) {
          const sent = performance.now();
          await store.collection(COLLECTION).put(`${run}-${writer}-${n % DOCUMENTS}`, { run, sent, n });
          note(commits, performance.now() - sent);
          written++;
        }
      }),
    ).finally(() => clearInterval(timer));
    bar.stop();
    const elapsedS = (performance.now() - started) / 1000;
    const outcome = {
      url: target.url,
      ...counts,
      written,
      writesPerSecond: Math.round(written / elapsedS),
      deliveriesPerSecond: Math.round(deliveries.count / elapsedS),
      commitMs: percentiles(commits),
      deliveryMs: percentiles(deliveries),
    };
    if (options.json) printJson(outcome);
    else report(outcome);
  } finally {
    bar.stop();
    await tidy(stores[0], run);
    for (const store of stores) store.close();
  }
}

function report({
  writesPerSecond,
  deliveriesPerSecond,
  commitMs,
  deliveryMs,
  writers,
  watchers,
  seconds,
  url,
}: {
  url: string;
  writers: number;
  watchers: number;
  seconds: number;
  writesPerSecond: number;
  deliveriesPerSecond: number;
  commitMs: Percentiles;
  deliveryMs: Percentiles;
}): void {
  process.stdout.write(pc.dim(`${url}: ${writers} writers, ${watchers} watchers, ${seconds} s\n`));
  const row = (name: string, rate: number, { p50, p95, p99, max }: Percentiles) => [
    name,
    `${rate.toLocaleString('en')}/s`,
    ...[p50, p95, p99, max].map(formatMs),
  ];
  printTable(
    ['', 'rate', 'p50', 'p95', 'p99', 'max'],
    [
      row('commits', writesPerSecond, commitMs),
      ...(watchers > 0 ? [row('deliveries', deliveriesPerSecond, deliveryMs)] : []),
    ],
  );
}

type Percentiles = Record<'p50' | 'p95' | 'p99' | 'max', number>;

function percentiles(histogram: ReturnType<typeof createHistogram>): Percentiles {
  const at = (percentile: number) => (histogram.count === 0 ? 0 : histogram.percentile(percentile) / 1000);
  return { p50: at(50), p95: at(95), p99: at(99), max: at(100) };
}

function note(histogram: ReturnType<typeof createHistogram>, durationMs: number): void {
  histogram.record(Math.max(1, Math.round(durationMs * 1000)));
}

function limited(text: string, most: number): number {
  const count = parseCount(text)!;
  if (count > most) throw new RangeError(`${text} is more than ${most}, the maximum.`);
  return count;
}

/** Deletes the test documents. */
async function tidy(store: Store | undefined, run: string): Promise<void> {
  if (store?.state.name !== 'online') return;
  const { documents } = await store.collection(COLLECTION).list({ where: `run = '${run}'`, limit: 10_000 });
  const writes = documents.map(({ id }) => ({ delete: `${COLLECTION}/${id}` }));
  if (writes.length > 0) await store.commit({ writes });
}
