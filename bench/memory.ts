import { connect } from '@uproar/client';
import { SignJWT } from 'jose';
import { BenchServer, KEY, openMany, sleep, TOKEN_SECRET, type Listener, type Row } from './harness.js';

/** As many as a service lets in from one address, with the first ones. */
const CONNECTIONS = 4900;

const SHARED_WATCH = { query: { from: 'balloons', where: "status = 'aloft'" } };

/** Each identity may read its own balloons, so each has a view of its own. */
const POLICY = { collections: { balloons: { read: "owner = claim('sub')" } } };

/** Memory in use for each idle connection that watches, beside bare connections. */
export async function benchMemory(): Promise<Row[]> {
  const bare = await measure('bare', '/', () => Promise.resolve());
  const shared = await measure('uproar', '/v1/live', (listener) => listener.call('watch', SHARED_WATCH));
  const own = await measure('uproar', '/v1/live', watchAsOne);
  return [
    rowOf(`${CONNECTIONS} idle connections of one identity that watch the same`, shared, bare),
    rowOf(`${CONNECTIONS} idle connections, each of its own identity and with a watch of its own`, own, bare),
  ];
}

function rowOf(what: string, ours: number, bare: number): Row {
  return {
    benchmark: 'memory',
    what,
    ours,
    bare,
    unit: 'KiB per connection',
    ratio: ours / bare,
    aim: 'at most 1.5',
    reached: ours / bare <= 1.5,
  };
}

/** @param begin does what each connection does before it is idle */
async function measure(
  mode: 'uproar' | 'bare',
  path: string,
  begin: (listener: Listener, n: number) => Promise<unknown>,
): Promise<number> {
  const server = await BenchServer.start(mode);
  if (mode === 'uproar') {
    const store = connect(server.url, { token: KEY });
    await store.request('PUT', '/v1/policy', { text: JSON.stringify(POLICY) });
    store.close();
  }
  let last = 0;
  const beginNext = (listener: Listener) => begin(listener, ++last);
  const first = await openMany(50, server.url, path, beginNext);
  await sleep(300);
  const before = await server.memory();
  const listeners = await openMany(CONNECTIONS, server.url, path, beginNext);
  await sleep(1000);
  const after = await server.memory();
  for (const { socket } of [...first, ...listeners]) socket.terminate();
  await server.stop();
  return (after.usedBytes - before.usedBytes) / CONNECTIONS / 1024;
}

async function watchAsOne(listener: Listener, n: number): Promise<void> {
  const token = await new SignJWT({ sub: `device-${n}` })
    .setProtectedHeader({ alg: 'HS256' })
    .setIssuedAt()
    .setExpirationTime('1h')
    .sign(new TextEncoder().encode(TOKEN_SECRET));
  for (const [method, params] of [
    ['hello', { token }],
    ['watch', { query: { from: 'balloons', where: `crewId = 'c-${n}'`, order: '-altitude', limit: 20 } }],
  ] as const) {
    const answer = await listener.call(method, params);
    if (!answer.includes('"result"')) throw new Error(answer);
  }
}
