import { readFileSync } from 'node:fs';
import { gzipSync } from 'node:zlib';
import { connect } from '@uproar/client';
import { CLIENT_FILE } from '@uproar/client/file';
import { Store } from '../packages/client/dist/store.js';
import type { SocketLike } from '../packages/client/dist/transport/socket.js';
import { BenchServer, KEY, Listener, percentile, sleep, until, type Row } from './harness.js';

const DOCUMENTS = 10_000;
const CHANGES = 3000;

/** The messages of a watch and of changes to it, as the service sends them. */
interface Recording {
  hello: string;
  result: string;
  changes: string[];
}

/** What the client costs: a change to a large view, a write until it shows, and its size. */
export async function benchClient(): Promise<Row[]> {
  const server = await BenchServer.start('uproar');
  const writer = connect(server.url, { token: KEY });
  const writes = Array.from({ length: DOCUMENTS }, (_, n) => ({
    put: `balloons/bl-${n}`,
    data: {
      name: `balloon ${n}`,
      status: 'aloft',
      altitude: n % 3000,
      position: { type: 'Point', coordinates: [n / 1e4, 0] },
    },
  }));
  await writer.commit({ writes });
  const change = (n: number) =>
    writer.commit({ writes: [{ merge: `balloons/bl-${(n * 7919) % DOCUMENTS}`, data: { altitude: n } }] });
  /**
   * CPU of this process for a change, in microseconds.
   *
   * @param seen the seq of the last change that has arrived
   */
  const measure = async (seen: () => number): Promise<number> => {
    for (let n = 0; n < 200; n++) await change(n);
    const cpu = process.cpuUsage();
    let last = 0;
    for (let n = 0; n < CHANGES; n++) last = (await change(n + 1)).seq;
    await until(() => seen() >= last);
    const { user, system } = process.cpuUsage(cpu);
    return (user + system) / CHANGES;
  };

  // Making the changes costs the same in both, and is in both.
  await measure(() => Infinity);
  const listener = await Listener.open(server.url, '/v1/live');
  const recording: Recording = {
    hello: await listener.call('hello', { token: KEY }),
    result: await listener.call('watch', { query: { from: 'balloons', order: '-altitude', limit: 'none' } }),
    changes: [],
  };
  let parsed = 0;
  listener.onMessage = (data) => {
    const text = String(data);
    const { method, params } = JSON.parse(text) as { method?: string; params?: { seq: number } };
    if (method === 'change') {
      recording.changes.push(text);
      parsed = params!.seq;
    }
  };
  const bare = await measure(() => parsed);
  listener.socket.terminate();

  const store = connect(server.url, { token: KEY });
  const watch = store.collection('balloons').order('-altitude').watch();
  watch.subscribe(() => undefined);
  await until(() => watch.current.documents.length === DOCUMENTS);
  const ours = await measure(() => watch.current.seq);

  const shown: number[] = [];
  for (let n = 0; n < 200; n++) {
    const begun = performance.now();
    const done = store.collection('balloons').merge(`bl-${n * 50}`, { fuel: n });
    if (watch.current.byId.get(`bl-${n * 50}`)!.data.fuel !== n) throw new Error('The write does not show.');
    shown.push(performance.now() - begun);
    await done;
  }
  store.close();
  writer.close();
  await server.stop();
  const replayed = await replay(recording);
  const size = gzipSync(readFileSync(CLIENT_FILE), { level: 9 }).length / 1000;
  return [
    {
      benchmark: 'client',
      what: `CPU of a client for a change to a view of ${DOCUMENTS} documents in order, and for making it, compared with only parsing the message`,
      ours,
      bare,
      unit: 'µs',
      ratio: ours / bare,
      aim: 'stated',
      reached: true,
    },
    {
      benchmark: 'client',
      what: 'the same change alone, from its message to the new view, compared with only parsing the message',
      ours: replayed.ours,
      bare: replayed.bare,
      unit: 'µs',
      ratio: replayed.ours / replayed.bare,
      aim: 'stated',
      reached: true,
    },
    {
      benchmark: 'client',
      what: `a write until it shows in that view, p50 (p99 ${percentile(shown, 0.99).toFixed(2)} ms), compared with a frame of a display`,
      ours: percentile(shown, 0.5),
      bare: 1000 / 60,
      unit: 'ms',
      ratio: (percentile(shown, 0.5) * 60) / 1000,
      aim: 'stated',
      reached: true,
    },
    {
      benchmark: 'client',
      what: 'the client as one file, gzipped, compared with the aim',
      ours: size,
      bare: 25,
      unit: 'kB',
      ratio: size / 25,
      aim: 'below 1',
      reached: size < 25,
    },
  ];
}

/** Lets a client have recorded messages, without a service. Microseconds of CPU for a change; the best of several rounds. */
async function replay({ hello, result, changes }: Recording): Promise<{ ours: number; bare: number }> {
  let [ours, bare] = [Infinity, Infinity];
  for (let round = 0; round < 7; round++) {
    const before = process.cpuUsage();
    for (const text of changes) JSON.parse(text);
    bare = Math.min(bare, cpuSince(before) / changes.length);

    const socket: SocketLike = {
      send: (text) => {
        const { id, method } = JSON.parse(text) as { id: number; method: string };
        const answer = JSON.parse(method === 'hello' ? hello : result) as object;
        setImmediate(() => socket.onmessage!({ data: JSON.stringify({ ...answer, id }) }));
      },
      close: () => undefined,
      onopen: null,
      onmessage: null,
      onerror: null,
      onclose: null,
    };
    setImmediate(() => socket.onopen!());
    const store = new Store('http://127.0.0.1', { openSocket: () => socket, token: KEY });
    const watch = store.collection('balloons').order('-altitude').watch();
    let views = 0;
    watch.subscribe(() => views++);
    await until(() => watch.current.documents.length === DOCUMENTS);
    const [seen, begun] = [views, process.cpuUsage()];
    for (const data of changes) {
      socket.onmessage!({ data });
      // A view is made for each change.
      await Promise.resolve();
    }
    ours = Math.min(ours, cpuSince(begun) / changes.length);
    await sleep(10);
    if (views - seen < changes.length) throw new Error(`Only ${views - seen} of ${changes.length} changes showed.`);
    store.close();
  }
  return { ours, bare };
}

function cpuSince(begun: NodeJS.CpuUsage): number {
  const { user, system } = process.cpuUsage(begun);
  return user + system;
}
