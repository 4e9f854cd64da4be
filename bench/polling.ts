/**
 * Polling every three seconds compared with watching: `npm run bench -- polling`. The same devices show the same 20 balloons
 * while these change. Draws the plot of docs/benchmarks.md; `-- polling --draw` draws it again without measuring.
 */
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { HttpLane } from './http-lane.js';
import { BenchServer, Listener, sleep, until } from './harness.js';
import { CURVES, drawSvg } from './plot.js';
import { makeBalloon } from './query.js';

const DEVICES = [100, 1000, 10_000];
const CHANGES_PER_S = [1, 10, 100];
const POLL_MS = 3000;
/** Each combination is measured for three polls. */
const MEASURE_MS = 3 * POLL_MS;
const BALLOONS = 20;
/** Connections that are opened at a time. */
const AT_ONCE = 100;

/** The cost of polling or watching, for a number of devices and changes. */
interface Outcome {
  way: 'polling every 3 s' | 'watching';
  devices: number;
  changesPerS: number;
  requestsPerS: number;
  /** Sent by the store, without the heads of answers. */
  bytesPerS: number;
  /** Of one core. */
  cpuShare: number;
  /** From a change until a device shows it or a later one, in milliseconds. */
  meanAgeMs: number;
  /** The part of the changes that were shown; the others were overtaken by the end. */
  shownShare: number;
}

/** The times of the changes, by which the age of what devices show is counted. */
class Changes {
  readonly #firstSeq: number;
  /** The sum of the times of all changes up to each. */
  readonly #sums: number[] = [0];
  ageMs = 0;
  shown = 0;

  constructor(seq: number) {
    this.#firstSeq = seq + 1;
  }

  get count(): number {
    return this.#sums.length - 1;
  }

  /** Notes a change that is sent now. Devices may show it before it is acknowledged. */
  send(): void {
    this.#sums.push(this.#sums.at(-1)! + performance.now());
  }

  /** The seq of the last change: each is a commit of its own, and nobody else writes. */
  get lastSeq(): number {
    return this.#firstSeq + this.count - 1;
  }

  /** A device shows the state at a seq, which showed `before` until now. Returns what it shows. */
  show(before: number, seq: number): number {
    const from = Math.max(0, before - this.#firstSeq + 1);
    const to = Math.min(this.count, seq - this.#firstSeq + 1);
    if (to > from) {
      this.ageMs += (to - from) * performance.now() - (this.#sums[to]! - this.#sums[from]!);
      this.shown += to - from;
    }
    return Math.max(before, seq);
  }
}

/** The last seq in a text; each change is a commit of its own. */
function seqIn(text: Buffer): number {
  const at = text.lastIndexOf('"seq":');
  return at === -1 ? -1 : Number.parseInt(text.toString('latin1', at + 6, at + 24), 10);
}

/** A server accepts a limited number of connections from one address, so the devices have several. */
const addressOf = (device: number) => `127.0.0.${2 + (device % 100)}`;

async function openAll<Device>(count: number, open: (device: number) => Promise<Device>): Promise<Device[]> {
  const all: Device[] = [];
  while (all.length < count) {
    const first = all.length;
    const part = Array.from({ length: Math.min(AT_ONCE, count - first) }, (_, n) => open(first + n));
    all.push(...(await Promise.all(part)));
  }
  return all;
}

/** What each way counts while it runs. */
interface Counters {
  requests: number;
  bytes: number;
  changes: Changes;
}

/** Sends changes at a rate, as many devices would together: each without waiting for the one before. */
async function changeFor(writer: Listener, changesPerS: number, { changes }: Counters): Promise<void> {
  const begun = performance.now();
  let acknowledged = 0;
  writer.onMessage = (text) => {
    if (text.includes('"error"')) throw new Error(`A change was refused: ${String(text)}`);
    if (text.includes('"result"')) acknowledged = seqIn(text);
  };
  for (let n = 0; ; n++) {
    const dueMs = (n * 1000) / changesPerS;
    if (dueMs > MEASURE_MS) break;
    await sleep(Math.max(0, dueMs - (performance.now() - begun)));
    const writes = [{ merge: `balloons/bl-${n % BALLOONS}`, data: { altitude: n } }];
    changes.send();
    writer.socket.send(JSON.stringify({ jsonrpc: '2.0', id: n, method: 'commit', params: { writes } }));
  }
  await until(() => acknowledged === changes.lastSeq);
}

async function measureRate(
  server: BenchServer,
  writer: Listener,
  devices: number,
  changesPerS: number,
  attach: (counters: Counters) => () => Promise<void>,
): Promise<Omit<Outcome, 'way'>> {
  const answer = await writer.call('commit', { writes: [{ merge: 'balloons/bl-0', data: { altitude: -1 } }] });
  const counters: Counters = { requests: 0, bytes: 0, changes: new Changes(seqIn(Buffer.from(answer))) };
  const detach = attach(counters);
  const before = await server.usage();
  const begun = performance.now();
  await changeFor(writer, changesPerS, counters);
  const seconds = (performance.now() - begun) / 1000;
  const after = await server.usage();
  const { requests, bytes } = counters;
  // The last changes are on their way.
  await sleep(POLL_MS + 500);
  await detach();
  const { changes } = counters;
  console.error(`  ${changes.count} changes, ${changes.shown} shown`);
  return {
    devices,
    changesPerS,
    requestsPerS: requests / seconds,
    bytesPerS: bytes / seconds,
    cpuShare: (after.cpuMs - before.cpuMs) / 1000 / seconds,
    meanAgeMs: changes.ageMs / changes.shown,
    shownShare: changes.shown / (devices * changes.count),
  };
}

async function withServer(measure: (server: BenchServer, writer: Listener) => Promise<Outcome[]>) {
  const server = await BenchServer.start('uproar');
  const writer = await Listener.open(server.url, '/v1/live');
  const writes = Array.from({ length: BALLOONS }, (_, n) => ({
    put: `balloons/bl-${n}`,
    data: makeBalloon(n).data,
  }));
  await writer.call('commit', { writes });
  try {
    return await measure(server, writer);
  } finally {
    writer.socket.terminate();
    await server.stop();
  }
}

async function measurePolling(devices: number): Promise<Outcome[]> {
  console.error(`${devices} devices poll`);
  return withServer(async (server, writer) => {
    const lanes = await openAll(devices, (device) => HttpLane.open(server.url, addressOf(device)));
    const outcomes: Outcome[] = [];
    for (const changesPerS of CHANGES_PER_S) {
      const measured = await measureRate(server, writer, devices, changesPerS, (counters) => {
        let ended = false;
        const polling = lanes.map(async (lane, n) => {
          let shown = -1;
          await sleep((POLL_MS * n) / lanes.length);
          while (!ended) {
            const sent = performance.now();
            await lane.send('GET', `/v1/data/balloons?limit=${BALLOONS}`, '');
            counters.requests++;
            counters.bytes += lane.body.length;
            shown = counters.changes.show(shown, seqIn(lane.body.subarray(0, 40)));
            await sleep(Math.max(0, POLL_MS - (performance.now() - sent)));
          }
        });
        return async () => {
          ended = true;
          await Promise.all(polling);
        };
      });
      outcomes.push({ way: 'polling every 3 s', ...measured });
    }
    for (const lane of lanes) lane.close();
    return outcomes;
  });
}

async function measureWatching(devices: number): Promise<Outcome[]> {
  console.error(`${devices} devices watch`);
  return withServer(async (server, writer) => {
    const listeners = await openAll(devices, async (device) => {
      const listener = await Listener.open(server.url, '/v1/live', undefined, addressOf(device));
      await listener.call('watch', { query: { from: 'balloons', limit: BALLOONS } });
      return listener;
    });
    const outcomes: Outcome[] = [];
    for (const changesPerS of CHANGES_PER_S) {
      const measured = await measureRate(server, writer, devices, changesPerS, (counters) => {
        for (const listener of listeners) {
          let shown = -1;
          listener.onMessage = (text) => {
            counters.bytes += text.length;
            shown = counters.changes.show(shown, seqIn(text));
          };
        }
        return async () => {
          for (const listener of listeners) listener.onMessage = () => undefined;
        };
      });
      outcomes.push({ way: 'watching', ...measured });
    }
    for (const { socket } of listeners) socket.terminate();
    return outcomes;
  });
}

const MEASURES = [
  { field: 'meanAgeMs', title: 'mean age (ms)', format: '~s' },
  { field: 'cpuShare', title: 'CPU (cores)', format: '~r' },
  { field: 'bytesPerS', title: 'sent (bytes/s)', format: '~s' },
] as const;

function draw(outcomes: readonly Outcome[]): Promise<string> {
  const values = outcomes.map((outcome) => ({
    ...outcome,
    devices: `${outcome.devices.toLocaleString('en')} devices`,
  }));
  return drawSvg({
    title: 'Polling every 3 s compared with watching',
    data: { values },
    vconcat: MEASURES.map(({ field, title, format }, row) => ({
      hconcat: DEVICES.map((devices, column) => ({
        width: 190,
        height: 110,
        ...(row === 0 ? { title: `${devices.toLocaleString('en')} devices` } : {}),
        transform: [{ filter: `datum.devices === '${devices.toLocaleString('en')} devices'` }],
        mark: { type: 'line' as const, point: true },
        encoding: {
          x: {
            field: 'changesPerS',
            type: 'quantitative' as const,
            scale: { type: 'log' as const },
            title: row === MEASURES.length - 1 ? 'changes per second' : null,
            axis: { values: CHANGES_PER_S, grid: false },
          },
          y: {
            field,
            type: 'quantitative' as const,
            title: column === 0 ? title : null,
            scale: {
              type: 'log' as const,
              domain: extentOf(outcomes.map((outcome) => outcome[field])),
            },
            axis: { format, values: powersOfTen(outcomes.map((outcome) => outcome[field])) },
          },
          color: { field: 'way', type: 'nominal' as const, title: null, sort: null, scale: { range: CURVES } },
          strokeDash: { field: 'way', type: 'nominal' as const, title: null, sort: null },
        },
      })),
    })),
  });
}

/** The powers of ten from the one below all numbers to the one above. */
function powersOfTen(numbers: readonly number[]): number[] {
  const from = Math.floor(Math.log10(Math.min(...numbers)));
  const to = Math.ceil(Math.log10(Math.max(...numbers)));
  return Array.from({ length: to - from + 1 }, (_, n) => 10 ** (from + n));
}

function extentOf(numbers: readonly number[]): [number, number] {
  const powers = powersOfTen(numbers);
  return [powers[0]!, powers.at(-1)!];
}

const folder = new URL('../docs/plots/', import.meta.url).pathname;
const kept = join(folder, 'polling.json');
mkdirSync(folder, { recursive: true });
const outcomes: Outcome[] = process.argv.includes('--draw')
  ? (JSON.parse(readFileSync(kept, 'utf8')) as Outcome[])
  : [];
if (outcomes.length === 0) {
  for (const devices of DEVICES) outcomes.push(...(await measurePolling(devices)), ...(await measureWatching(devices)));
  writeFileSync(kept, `${JSON.stringify(outcomes, null, 2)}\n`);
}
console.log('| devices | changes/s | | requests/s | sent | CPU | mean age |\n|---|---|---|---|---|---|---|');
for (const { devices, changesPerS, way, requestsPerS, bytesPerS, cpuShare, meanAgeMs, shownShare } of outcomes) {
  const sent = bytesPerS >= 1e6 ? `${(bytesPerS / 1e6).toFixed(1)} MB/s` : `${(bytesPerS / 1e3).toFixed(1)} kB/s`;
  console.log(
    `| ${devices.toLocaleString('en')} | ${changesPerS} | ${way} | ${Math.round(requestsPerS).toLocaleString('en')} | ${sent} ` +
      `| ${cpuShare.toFixed(2)} cores | ${Math.round(meanAgeMs).toLocaleString('en')} ms |` +
      (shownShare < 0.9 ? ` ${Math.round(100 * shownShare)}% shown` : ''),
  );
}
writeFileSync(join(folder, 'polling.svg'), `${await draw(outcomes)}\n`);
process.exit(0);
