import { connect, type Store } from '@uproar/client';
import { SignJWT } from 'jose';
import { BenchServer, KEY, openMany, TOKEN_SECRET, until, type Listener, type Row } from './harness.js';

const CHANGES = 300;
const IDENTITIES = 1000;
const TEAMS = 10;

/** Each identity may read its own flights and those of its team, so no two identities may read the same documents. */
const POLICY = {
  collections: { flights: { read: "owner = claim('sub') OR team = claim('team')" }, board: { read: true } },
};

/** Puts the policy in force, and returns who writes. */
export async function openGoverned(server: BenchServer): Promise<Store> {
  const store = connect(server.url, { token: KEY });
  await store.request('PUT', '/v1/policy', { text: JSON.stringify(POLICY) });
  return store;
}

/** The server CPU of a change when all connections watch the same query, each with another effective policy. */
export async function benchPolicy(): Promise<Row[]> {
  const server = await BenchServer.start('uproar');
  const store = await openGoverned(server);
  try {
    const few = await connectIdentities(server, 10, 'flights');
    const forFew = await measureChange(server, store, few, (n) => ({ path: 'flights', data: { owner: 'i-1', n } }), 1);
    const rest = await connectIdentities(server, IDENTITIES - 10, 'flights', 10);
    const all = [...few, ...rest];
    const forOne = await measureChange(server, store, all, (n) => ({ path: 'flights', data: { owner: 'i-1', n } }), 1);
    const forTeam = await measureChange(
      server,
      store,
      all,
      (n) => ({ path: 'flights', data: { team: 't-1', n } }),
      IDENTITIES / TEAMS,
    );
    for (const { socket } of all) socket.terminate();
    const sharing = await connectIdentities(server, IDENTITIES / TEAMS, 'board');
    const shared = await measureChange(
      server,
      store,
      sharing,
      (n) => ({ path: 'board', data: { team: 't-1', n } }),
      IDENTITIES / TEAMS,
    );
    for (const { socket } of sharing) socket.terminate();
    const perMessage = (cost: number) => cost / (IDENTITIES / TEAMS);
    return [
      {
        benchmark: 'policy',
        what: `a change that 1 of ${IDENTITIES.toLocaleString('en')} connected identities may see, each with a policy of its own on one query, compared with 10 connected`,
        ours: forOne,
        bare: forFew,
        unit: 'µs of CPU per change',
        ratio: forOne / forFew,
        aim: 'at most 1.5',
        reached: forOne / forFew <= 1.5,
      },
      {
        benchmark: 'policy',
        what: `a change that ${IDENTITIES / TEAMS} of them see, through ${IDENTITIES / TEAMS} views, compared with one view that as many share`,
        ours: perMessage(forTeam),
        bare: perMessage(shared),
        unit: 'µs of CPU per message',
        ratio: forTeam / shared,
        aim: 'stated',
        reached: true,
      },
    ];
  } finally {
    store.close();
    await server.stop();
  }
}

export async function connectIdentities(
  server: BenchServer,
  count: number,
  from: string,
  first = 0,
): Promise<Listener[]> {
  let next = first;
  const listeners = await openMany(
    count,
    server.url,
    '/v1/live',
    async (listener) => {
      const n = next++;
      const token = await new SignJWT({ sub: `i-${n}`, team: `t-${n % TEAMS}` })
        .setProtectedHeader({ alg: 'HS256' })
        .setExpirationTime('1h')
        .sign(new TextEncoder().encode(TOKEN_SECRET));
      await listener.call('hello', { token });
      await listener.call('watch', { query: { from, limit: 'none' } });
    },
    {},
  );
  return listeners;
}

/** Microseconds of the server's CPU for a change that so many of the listeners see. */
export async function measureChange(
  server: BenchServer,
  store: Store,
  listeners: Listener[],
  change: (n: number) => { path: string; data: Record<string, string | number> },
  affected: number,
): Promise<number> {
  const heard = () => listeners.reduce((sum, { messages }) => sum + messages, 0);
  const run = async (n: number) => {
    const { path, data } = change(n);
    const wanted = heard() + affected;
    await store.collection(path).put('f-1', data);
    await until(() => heard() >= wanted);
  };
  for (let n = 0; n < 50; n++) await run(n);
  const before = await server.usage();
  for (let n = 0; n < CHANGES; n++) await run(n + 1000);
  const after = await server.usage();
  await store.collection(change(0).path).delete('f-1');
  return ((after.cpuMs - before.cpuMs) * 1000) / CHANGES;
}
