import { connect, ProblemError, type Store } from '@uproar/client';
import { BenchServer, KEY, type Row } from './harness.js';

const CLIENTS = 64;
const ADDS = 100;

/** Many clients add to one counter, by adjustments and by transactions; the total must be exact. */
export async function benchContention(): Promise<Row[]> {
  const server = await BenchServer.start('uproar');
  const clients = Array.from({ length: CLIENTS }, () => connect(server.url, { token: KEY }));
  await Promise.all(clients.map((client) => client.ready()));
  const [first] = clients as [Store];

  const apart = await timed(clients, (client, number) =>
    client.commit({ writes: [{ adjust: `counters/own-${number}`, by: { '/n': { add: 1 } } }] }),
  );
  const adjusted = await timed(clients, (client) =>
    client.commit({ writes: [{ adjust: 'counters/adjusted', by: { '/n': { add: 1 } } }] }),
  );
  let retries = 0;
  const transacted = await timed(clients, async (client) => {
    const counters = client.collection('counters');
    for (;;) {
      const read = (await counters.get('transacted'))!;
      try {
        await counters.put('transacted', { n: Number(read.data.n) + 1 }, { ifVersion: read.version });
        return;
      } catch (error) {
        if (!(error instanceof ProblemError) || error.problem.status !== 409) throw error;
        retries++;
      }
    }
  });
  for (const id of ['adjusted', 'transacted']) {
    const { data } = (await first.collection('counters').get(id))!;
    if (data.n !== CLIENTS * ADDS) throw new Error(`The total of ${id} is ${String(data.n)}, not ${CLIENTS * ADDS}.`);
  }
  for (const client of clients) client.close();
  await server.stop();
  const total = CLIENTS * ADDS;
  return [
    {
      benchmark: 'contention',
      what: `${CLIENTS} clients add ${ADDS} times to one counter by adjust, compared with each to its own (total exact, no retries)`,
      ours: adjusted,
      bare: apart,
      unit: 'commits per second',
      ratio: adjusted / apart,
      aim: 'stated',
      reached: true,
    },
    {
      benchmark: 'contention',
      what: `the same by reading and writing under a condition, again when refused (total exact, ${(retries / total).toFixed(1)} retries for each), compared with adjust`,
      ours: transacted,
      bare: adjusted,
      unit: 'commits per second',
      ratio: transacted / adjusted,
      aim: 'stated',
      reached: true,
    },
  ];

  async function timed(all: Store[], act: (client: Store, number: number) => Promise<unknown>): Promise<number> {
    const ids = ['adjusted', 'transacted', ...all.map((_, number) => `own-${number}`)];
    await first.commit({ writes: ids.map((id) => ({ create: 'counters', id, data: { n: 0 }, keepExisting: true })) });
    const start = performance.now();
    await Promise.all(
      all.map(async (client, number) => {
        for (let n = 0; n < ADDS; n++) await act(client, number);
      }),
    );
    return (all.length * ADDS * 1000) / (performance.now() - start);
  }
}
