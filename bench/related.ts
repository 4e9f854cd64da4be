import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseOrder, type Write } from '@uproar/core';
import type { WireQuery } from '@uproar/protocol';
import { prepareReadable } from '../packages/service/dist/reading/prepare-query.js';
import type { LiveEvent } from '../packages/service/dist/live/live-event.js';
import { frameEvent } from '../packages/service/dist/websocket/encode-event.js';
import { LiveViews } from '../packages/service/dist/live/live-views.js';
import { MetricsRecorder } from '../packages/service/dist/metrics/metrics-recorder.js';
import { openStore, summarize, type Store } from '../packages/service/dist/store/index.js';
import type { Row } from './harness.js';
import { EVERYBODY } from '../test/read-scope.js';

const VIEWS = 1000;
const BALLOONS = 100_000;
const CREWS = 2000;
const CHANGES = 300;

const AUTHOR = { kind: 'key' as const, name: 'bench' };

/** The cost of a change with 1,000 live views over 100,000 documents, compared with running their queries again. */
export async function benchRelated(): Promise<Row[]> {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const store = openStore(directory);
  try {
    await fill(store);
    const region = (n: number) => ({ from: 'balloons', where: `region = 'r-${n % VIEWS}'` });
    const include = 'crew = crews via crewId; flights by balloonId order -start limit 3';
    const summary = 'count(),sum(altitude),avg(altitude),min(altitude),max(altitude)';
    return [
      ...(await measure(
        store,
        'views with includes, a related document changed',
        (n) => ({ ...region(n), limit: 500, include }),
        (n) => ({ kind: 'merge', collection: 'crews', id: `c-${n % CREWS}`, data: { n } }),
      )),
      ...(await measure(
        store,
        'summaries by a field, a document changed',
        (n) => ({ ...region(n), summary, by: 'status' }),
        (n) => ({
          kind: 'merge',
          collection: 'balloons',
          id: `b-${n * 7}`,
          data: { altitude: n % 1500, status: ['aloft', 'landed'][n % 2]! },
        }),
      )),
    ];
  } finally {
    store.close();
    rmSync(directory, { recursive: true, force: true });
  }
}

async function fill(store: Store): Promise<void> {
  const write = (writes: Write[]) => store.log.append({ timeMs: Date.now(), author: AUTHOR, writes });
  const put = (collection: string, id: string, data: Write & object): Write =>
    ({ kind: 'put', collection, id, data }) as unknown as Write;
  const rows: Write[] = [];
  for (let n = 0; n < CREWS; n++) rows.push(put('crews', `c-${n}`, { name: `Crew ${n}`, n: 0 } as never));
  for (let n = 0; n < BALLOONS; n++) {
    const data = {
      region: `r-${n % VIEWS}`,
      crewId: `c-${(n * 13) % CREWS}`,
      altitude: (n * 37) % 1500,
      status: 'aloft',
    };
    rows.push(put('balloons', `b-${n}`, data as never));
    if (n % 2 === 0) rows.push(put('flights', `f-${n}`, { balloonId: `b-${n}`, start: n } as never));
  }
  for (let start = 0; start < rows.length; start += 2000) await write(rows.slice(start, start + 2000));
  await store.indexes.create('balloons', parseOrder('region'), 0);
  await store.indexes.create('flights', parseOrder('balloonId,-start'), 0);
}

async function measure(
  store: Store,
  what: string,
  queryOf: (n: number) => WireQuery,
  writeOf: (n: number) => unknown,
): Promise<Row[]> {
  let begun = 0;
  let spentMs = 0;
  let sent = 0;
  const stopFirst = store.log.onApplied(() => (begun = performance.now()));
  const views = new LiveViews(store, new MetricsRecorder());
  const stopLast = store.log.onApplied(() => (spentMs += performance.now() - begun));
  const sink = {
    full: false,
    send: (event: LiveEvent) => event.encodedBy(frameEvent).forEach(({ length }) => (sent += length)),
  };
  await Promise.all(
    Array.from(
      { length: VIEWS },
      (_, n) =>
        new Promise<void>((resolve, reject) => {
          views.watch({ query: queryOf(n) }, EVERYBODY, sink, undefined, () => resolve(), reject);
        }),
    ),
  );
  const touched = new Set<string>();
  for (let n = 0; n < CHANGES; n++) {
    const outcome = await store.log.append({ timeMs: Date.now(), author: AUTHOR, writes: [writeOf(n) as Write] });
    if (!('applied' in outcome)) throw new Error('A change was refused.');
    touched.add(String(n));
  }
  if (sent === 0) throw new Error('No view received an event.');
  const ours = spentMs / touched.size;
  const changed = [...views.list()].reduce((sum, { view }) => sum + view.cost.changed, 0) / touched.size;
  const started = performance.now();
  for (let n = 0; n < VIEWS; n++) await ask(store, queryOf(n));
  const all = performance.now() - started;
  stopFirst();
  stopLast();
  views.close();
  const row = (bare: number, beside: string, aim: number): Row => ({
    benchmark: 'related',
    what: `${VIEWS} ${what}; compared with asking ${beside} again`,
    ours: ours * 1000,
    bare: bare * 1000,
    unit: 'µs per change',
    ratio: bare / ours,
    aim: `at least ${aim} times cheaper`,
    reached: bare / ours >= aim,
  });
  return [row(all, 'all of them', 100), row((all / VIEWS) * changed, `the ${changed.toFixed(1)} it alters`, 1)];
}

/** Runs a query once, as a request does, and serialises its result. Returns the length of the text. */
async function ask(store: Store, form: WireQuery): Promise<number> {
  const query = prepareReadable(form, true, store, EVERYBODY);
  if (query.summary) return JSON.stringify((await summarize(store, query, {})).state.documents()).length;
  const { found } = await store.reader.read(query, query.limit!);
  return JSON.stringify(found.map(({ document, related }) => ({ ...document, related }))).length;
}
