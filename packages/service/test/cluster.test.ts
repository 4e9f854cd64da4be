import Database from 'better-sqlite3';
import { expect } from 'chai';
import { connect } from '@uproar/client';
import { databaseFile, detachStore, StoreError } from '@uproar/service';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd, freePort } from '../../../test/etcd.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { ServedProcess } from '../../../test/served-process.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';
import { connectionOf } from '../dist/store/index.js';
import { differ, dumpState } from './replay.js';

describe('a store on several nodes', () => {
  let etcd: Etcd;
  let prefixes = 0;
  before(async () => (etcd = await Etcd.start(1)));
  after(() => etcd.stop());

  const startCluster = async (count: number): Promise<TestService[]> => {
    const prefix = `test-${++prefixes}/`;
    const nodes: TestService[] = [];
    for (let n = 0; n < count; n++) nodes.push(await startNode(etcd, prefix));
    return nodes;
  };
  const placeOf = (node: TestService) =>
    connectionOf(node.service.store).prepare<[], number>('SELECT place FROM log').pluck().get()!;
  const level = async (nodes: TestService[]) => {
    await until('all nodes are level', () => new Set(nodes.map(placeOf)).size === 1);
    // What is written can be read once it is on disk.
    for (const node of nodes) await node.service.store.log.whenDurable(() => undefined);
  };
  const expectEqual = async (nodes: TestService[]) => {
    await level(nodes);
    const unready = 'SELECT COUNT(*) FROM indexes WHERE number NOT IN (SELECT number FROM ready_indexes)';
    await until('all indexes are filled', () =>
      nodes.every((node) => connectionOf(node.service.store).prepare(unready).pluck().get() === 0),
    );
    const [first, ...others] = nodes.map((node) => dumpState(connectionOf(node.service.store)));
    for (const other of others) expect(differ(first!, other), 'the same state on all nodes').to.deep.equal([]);
  };
  const stop = (nodes: TestService[]) => Promise.all(nodes.map((node) => node.stop()));

  it('takes writes on every node, and shows them on all, to readers and watchers', async () => {
    const nodes = await startCluster(3);
    const sockets = await Promise.all(nodes.map((node) => RawSocket.open(node, { authorization: `Bearer ${KEY}` })));
    for (const socket of sockets) await socket.call('watch', { query: { from: 'balloons' } });
    for (const [n, node] of nodes.entries()) {
      const answer = await node.request('PUT', `/v1/data/balloons/b-${n}`, { n });
      expect(answer.status).to.equal(201);
      expect((await node.request('GET', `/v1/data/balloons/b-${n}`)).json.data, 'own writes').to.deep.equal({ n });
    }
    await level(nodes);
    for (const [n, node] of nodes.entries()) {
      // What another node wrote is applied first and can be read once it is on disk here.
      await until(`node ${n} shows all`, async () => {
        const { documents } = (await node.request('GET', '/v1/data/balloons')).json as { documents: unknown[] };
        return documents.length === 3;
      });
      await until(`watcher ${n} has all`, () => JSON.stringify(sockets[n]!.heard).includes('b-2'));
    }
    for (const { socket } of sockets) socket.close();
    await expectEqual(nodes);
    await stop(nodes);
  });

  it('applies a commit once that is sent to two nodes', async () => {
    const nodes = await startCluster(2);
    const commit = { id: 'once', writes: [{ put: 'balloons/b-1', data: { n: 1 } }] };
    const [one, other] = await Promise.all(nodes.map((node) => node.request('POST', '/v1/commits', commit)));
    expect(one!.json.seq).to.equal(other!.json.seq).and.to.equal(1);
    await expectEqual(nodes);
    await stop(nodes);
  });

  it('has the same keys, policy, accounts, sessions and indexes on all nodes', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    await one.request('PUT', '/v1/data/flights/f-1', { crew: 'c-1' });
    const { key } = (await one.request('POST', '/v1/keys', { name: 'gate', scope: 'read' })).json as { key: string };
    await one.request('PUT', '/v1/policy', { text: 'collections: { flights: { read: true } }' });
    await one.request('POST', '/v1/indexes', { collection: 'flights', fields: 'crew' });
    const account = { name: 'ada', password: 'a-password-of-ada' };
    const session = (await one.as(null)('POST', '/v1/accounts', account)).json as { accessToken: string };
    await level(nodes);
    expect((await other.as(key)('GET', '/v1/data/flights')).json.documents).to.have.length(1);
    expect((await other.as(session.accessToken)('GET', '/v1/data/flights')).status).to.equal(200);
    expect((await other.request('GET', '/v1/indexes')).json.indexes).to.have.length(1);

    // A watch on the other node ends when its key is revoked here.
    const socket = await RawSocket.open(other, { authorization: `Bearer ${key}` });
    await socket.call('watch', { query: { from: 'flights' } });
    await one.request('DELETE', '/v1/keys/gate');
    await until('it ends', () => socket.heard.some(({ method }) => method === 'end'));
    expect((await other.as(key)('GET', '/v1/data/flights')).status).to.equal(401);
    socket.socket.close();
    await expectEqual(nodes);
    await stop(nodes);
  });

  it('has the content of a file on a second node before it is acknowledged, and then on all', async () => {
    const nodes = await startCluster(3);
    const [one] = nodes as [TestService];
    await until('all know each other', async () => (await one.request('GET', '/v1/cluster')).json.nodes.length === 3);
    const answer = await one.request('PUT', '/v1/files/picture/content', 'words of a file', {
      'content-type': 'text/plain',
    });
    expect(answer.status).to.equal(201);
    const { sha256 } = answer.json.data as { sha256: string };
    const having = () => nodes.filter((node) => node.service.store.contents.has(sha256)).length;
    expect(having()).to.be.at.least(2);
    await level(nodes);
    for (const node of nodes) {
      expect((await node.request('GET', '/v1/files/picture/content')).text).to.equal('words of a file');
    }
    const outsider = await one.as(null)('GET', `/v1/cluster/contents/${sha256}`);
    expect(outsider.status, 'for nodes alone').to.equal(401);
    const local = connectionOf(one.service.store).prepare<[], string>('SELECT value FROM local').pluck().all();
    expect(local.join(), 'no backup has the secret of the cluster').to.include('generation').and.not.include('secret');
    await stop(nodes);
  });

  it('waits on another node for what a client has seen', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    for (let n = 0; n < 20; n++) {
      const { seq } = (await one.request('POST', '/v1/commits', { writes: [{ put: 'a/b', data: { n } }] })).json;
      const seen = await other.request('GET', '/v1/data/a/b', undefined, { 'uproar-seen': String(seq) });
      expect(seen.json.data).to.deep.equal({ n });
    }
    const wrong = await other.request('GET', '/v1/data/a/b', undefined, { 'uproar-seen': 'soon' });
    expect(wrong.json.type).to.equal('/problems/bad-request');
    // What no node has is not waited for: it belongs to an earlier life of the store.
    const never = await other.request('GET', '/v1/data/a/b', undefined, { 'uproar-seen': '1000000' });
    expect(never.status).to.equal(200);
    await stop(nodes);
  });

  it('waits also while another node has received the commit, but not applied it yet', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    const paused = other.service.store.log.pause(() => new Promise((resolve) => setTimeout(resolve, 3000)));
    const { seq } = (await one.request('PUT', '/v1/data/a/b', { n: 1 }).then(() => one.request('GET', '/v1/data/a')))
      .json;
    const seen = await other.request('GET', '/v1/data/a/b', undefined, { 'uproar-seen': String(seq) });
    expect(seen.json.data).to.deep.equal({ n: 1 });
    await paused;
    await stop(nodes);
  });

  it('starts without etcd, serves what it has, and continues in the right place', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    for (let n = 0; n < 5; n++) await one.request('PUT', '/v1/data/a/b', { n });
    await level(nodes);
    await other.service.close();
    await etcd.pauseMember(etcd.members[0]!);
    try {
      await other.restart();
      const read = await other.request('GET', '/v1/data/a/b');
      expect(read.json.data).to.deep.equal({ n: 4 });
      expect(read.headers.has('uproar-stale-since'), 'stale from the start').to.equal(true);
    } finally {
      etcd.resumeMember(etcd.members[0]!);
    }
    const write = async (n: number) => (await one.request('PUT', `/v1/data/a/c-${n}`, { n })).status;
    for (let n = 0; n < 5; n++) await until('it is written', async () => (await write(n)) < 300);
    await until('it is up to date', async () => !('staleSince' in (await other.request('GET', '/v1/cluster')).json));
    expect((await other.request('GET', '/v1/data/a')).json.documents).to.have.length(6);
    await expectEqual(nodes);
    await stop(nodes);
  });

  it('lets clients move to another node, where they continue and lose nothing', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    const client = connect([one.url, other.url], { token: KEY, backoffMs: () => 30 });
    const watch = client.collection('balloons').watch();
    await client.collection('balloons').put('b-0', { n: 0 });
    let last = 0;
    watch.subscribe(({ seq }) => {
      expect(seq, 'time does not go back').to.be.at.least(last);
      last = seq;
    });
    for (let n = 1; n <= 3; n++) {
      const node = client.url === one.url ? one : other;
      await node.service.close();
      await client.collection('balloons').put(`b-${n}`, { n });
      expect(client.url).not.to.equal(node.url);
      await until('the watch has it', () => watch.current.documents.length === n + 1);
      await node.restart();
    }
    client.close();
    await expectEqual(nodes);
    await stop(nodes);
  });

  it('lets a node leave, come back, and catch up; and a new one copy the store', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    for (let n = 0; n < 20; n++) await one.request('PUT', `/v1/data/balloons/b-${n}`, { n });
    await other.service.close();
    for (let n = 0; n < 20; n++) await one.request('PUT', `/v1/data/balloons/c-${n}`, { n });
    await other.restart();
    expect((await other.request('GET', '/v1/data/balloons')).json.documents, 'at the start').to.have.length(40);
    const third = await startNode(etcd, `test-${prefixes}/`);
    expect((await third.request('GET', '/v1/data/balloons')).json.documents).to.have.length(40);
    await third.request('PUT', '/v1/data/balloons/d-1', { n: 1 });
    await expectEqual([...nodes, third]);

    const { json } = await third.request('GET', '/v1/cluster');
    expect(json.nodes).to.have.length(3);
    expect(json.nodes.every(({ differs }: { differs: boolean }) => !differs)).to.equal(true);
    expect(json).not.to.have.any.keys('staleSince', 'halted');
    await stop([...nodes, third]);
  });

  it('reads without a quorum and says since when it is stale; writes get an unknown outcome and are applied once', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    await one.request('PUT', '/v1/data/balloons/b-1', { n: 0 });
    await level(nodes);
    const socket = await RawSocket.open(other, { authorization: `Bearer ${KEY}` });
    const client = connect(other.url, { token: KEY });
    await client.ready();
    const staleSince = () => (client.state.name === 'online' ? client.state.server.staleSince : 'offline');
    expect(staleSince()).to.equal(undefined);
    await etcd.pauseMember(etcd.members[0]!);
    try {
      const commit = { id: 'during', writes: [{ adjust: 'balloons/b-1', by: { '/n': { add: 1 } } }] };
      const answer = await one.request('POST', '/v1/commits', commit);
      expect(answer.status).to.equal(503);
      expect(answer.json.type).to.equal('/problems/unconfirmed');
      const read = await other.request('GET', '/v1/data/balloons/b-1');
      expect(read.json.data).to.deep.equal({ n: 0 });
      expect(read.headers.get('uproar-stale-since')).to.match(/^\d{4}-.*Z$/);
      expect(JSON.stringify(socket.heard)).to.include('"staleSince"');
      expect(staleSince()).to.equal(read.headers.get('uproar-stale-since'));
      const state = (await other.request('GET', '/v1/cluster')).json as { staleSince: string };
      expect(Date.now() - Date.parse(state.staleSince)).to.be.within(3000, 30_000);
      etcd.resumeMember(etcd.members[0]!);
      await until('it is applied', async () => (await other.request('POST', '/v1/commits', commit)).status === 200);
    } finally {
      etcd.resumeMember(etcd.members[0]!);
    }
    await until('the other node has it', async () => {
      const { json } = await one.request('GET', '/v1/data/balloons/b-1');
      return (json.data as { n: number }).n === 1;
    });
    await until('it is up to date', async () => !('staleSince' in (await one.request('GET', '/v1/cluster')).json));
    await until('clients hear of it', () => staleSince() === undefined);
    expect((await other.request('GET', '/v1/data/balloons/b-1')).headers.has('uproar-stale-since')).to.equal(false);
    client.close();
    socket.socket.close();
    await expectEqual(nodes);
    await stop(nodes);
  });

  it('accepts a ticket on every node, once', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    const { key, id } = (await one.request('POST', '/v1/keys', { name: 'gate', scope: 'read' })).json as {
      key: string;
      id: string;
    };
    await level(nodes);
    await until(
      'they know each other',
      async () => (await other.request('GET', '/v1/cluster')).json.nodes.length === 2,
    );
    const issue = async () => ((await one.as(key)('POST', '/v1/tickets')).json as { ticket: string }).ticket;
    const use = async (node: TestService, ticket: string) =>
      (await node.as(null)('GET', `/v1/data/balloons?ticket=${ticket}`)).json.type ?? 'good';
    const first = await issue();
    expect(await use(other, first)).to.equal('good');
    for (const node of nodes) expect(await use(node, first), 'used').to.equal('/problems/ticket-invalid');
    expect(await use(one, await issue())).to.equal('good');
    expect(await use(other, 'nobody.unknown')).to.equal('/problems/ticket-invalid');

    const [revoked, late] = [await issue(), await issue()];
    await other.request('DELETE', `/v1/keys/${id}`);
    expect(await use(other, revoked), 'its key was revoked').to.equal('/problems/key-unknown');
    await one.service.close();
    expect(await use(other, late), 'its node has left').to.match(/ticket-invalid|behind/);
    await stop(nodes);
  });

  it('has the journal cut by one node, and by another when that one leaves', async () => {
    const prefix = `test-${++prefixes}/`;
    const journal = { maxAgeMs: 1 };
    const nodes = [await startNode(etcd, prefix, { journal }), await startNode(etcd, prefix, { journal })];
    const holderAt = async (node: TestService) => {
      const { leases } = (await node.request('GET', '/v1/cluster')).json as {
        leases: { work: string; node: string }[];
      };
      return leases.find(({ work }) => work === 'maintenance')?.node;
    };
    const nameOf = async (node: TestService) => (await node.request('GET', '/v1/cluster')).json.node as string;
    const names = await Promise.all(nodes.map(nameOf));
    await until('all agree on one', async () => {
      const [first, second] = await Promise.all(nodes.map(holderAt));
      return first !== undefined && first === second && names.includes(first);
    });
    const at = names.indexOf((await holderAt(nodes[0]!))!);
    const [holder, other] = [nodes[at]!, nodes[1 - at]!];
    const cut = () =>
      until(
        'the journal is cut',
        async () => (await other.request('GET', '/v1/journal?after=0')).json.type === '/problems/journal-truncated',
        25_000,
      );
    for (let n = 0; n < 3; n++) await other.request('PUT', `/v1/data/balloons/b-${n}`, { n });
    await cut();
    const { service } = holder;
    await service.close();
    await until('the other takes over', async () => (await holderAt(other)) === names[1 - at]);
    const { seq } = (await other.request('GET', '/v1/data/balloons')).json as { seq: number };
    for (let n = 0; n < 3; n++) await other.request('PUT', `/v1/data/balloons/c-${n}`, { n });
    await until(
      'it is cut by the other',
      async () => {
        const { status } = await other.request('GET', `/v1/journal?after=${seq}`);
        return status === 410;
      },
      25_000,
    );
    await stop(nodes);
  });

  it('shows the members of etcd, and refuses an etcd that takes too little at once', async () => {
    const [node] = await startCluster(1);
    const { json } = await node!.request('GET', '/v1/cluster');
    expect(json.etcd).to.have.length(1);
    expect(json.etcd[0]).to.deep.include({
      address: etcd.urls[0],
      answers: true,
      leads: true,
      hasLeader: true,
      alarms: [],
    });
    expect(json.etcd[0].version).to.match(/^3\./);
    expect(json.etcd[0].sizeBytes).to.be.above(0);
    const trial = (await node!.request('POST', '/v1/cluster/trial')).json;
    expect(trial.taken).to.equal(true);
    await node!.stop();

    const small = await Etcd.start(1, { 'max-request-bytes': '500000' });
    try {
      const refused = await startNode(small, 'small/').catch((error: unknown) => error);
      expect((refused as StoreError).message).to.include('--max-request-bytes');
    } finally {
      await small.stop();
    }
  });

  it('goes on where it was when a disk that could not be written to works again', async () => {
    const nodes = await startCluster(2);
    const [one, other] = nodes as [TestService, TestService];
    await one.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    await level(nodes);
    const database = connectionOf(one.service.store);
    database.pragma('query_only = on');
    const written = await one.request('PUT', '/v1/data/balloons/b-1', { n: 2 });
    expect(written.json.type, 'the others may have it').to.equal('/problems/unconfirmed');
    expect((await other.request('GET', '/v1/data/balloons/b-1')).json.data).to.deep.equal({ n: 2 });
    expect((await one.as(null)('GET', '/readyz')).json.reasons).to.include('storage-failed');
    const { address } = (await one.request('GET', '/v1/cluster')).json.nodes.find(
      ({ storage }: { storage?: string }) => storage !== undefined,
    );
    expect(address).to.equal(one.url);
    database.pragma('query_only = off');
    await expectEqual(nodes);
    // It can be read once it is synced.
    await until('it can be read', async () => (await one.request('GET', '/v1/data/balloons/b-1')).json.data.n === 2);
    await stop(nodes);
  });

  it('ends soon when it is asked to, although etcd has gone', async () => {
    const gone = await Etcd.start(1);
    const { path, remove } = temporaryDirectory();
    const process = await ServedProcess.start(path, await freePort(), ['--cluster', gone.urls[0]!]);
    const client = connect(process.url, { token: KEY });
    await client.collection('balloons').put('b-1', { n: 1 });
    await gone.stop();
    // It tries to reach etcd meanwhile.
    void client.collection('balloons').put('b-1', { n: 2 });
    await new Promise((resolve) => setTimeout(resolve, 4000));
    const late = new Promise((resolve) => setTimeout(() => resolve('late'), 10_000));
    expect(await Promise.race([process.stop('SIGTERM'), late])).to.equal(0);
    process.child.kill('SIGKILL');
    client.close();
    remove();
  });

  it('stops a node whose state differs from the others, which copies the store at its next start', async () => {
    const nodes = await startCluster(3);
    const third = nodes[2]!;
    await third.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    await level(nodes);
    const { directory } = third;
    const { port } = new URL(third.url);
    await third.service.close();
    const database = new Database(databaseFile(directory));
    database.exec("UPDATE log SET hash = 'damaged'; UPDATE documents SET data = '{}'");
    database.close();

    let halted: Error | undefined;
    const options = {
      directory,
      port: Number(port),
      onHalt: (error: Error) => (halted = error),
      cluster: { address: third.url, etcd: { urls: etcd.urls, prefix: `test-${prefixes}/` } },
    };
    const damaged = await TestService.start(options);
    await until('it notices', () => halted !== undefined);
    expect(halted!.message).to.include('differs from that of the others');
    expect((await damaged.request('GET', '/readyz')).json.reasons).to.include('halted');
    expect((await damaged.request('PUT', '/v1/data/balloons/b-2', { n: 1 })).status).to.equal(503);
    expect((await nodes[0]!.request('GET', '/readyz')).status, 'the others go on').to.equal(200);
    await damaged.service.close();

    const mended = await TestService.start(options);
    expect((await mended.request('GET', '/v1/data/balloons/b-1')).json.data).to.deep.equal({ n: 1 });
    await expectEqual([nodes[0]!, nodes[1]!, mended]);
    await stop([nodes[0]!, nodes[1]!, mended]);
  });

  it('refuses a store of another cluster, and a start alone until it is detached', async () => {
    const directory = temporaryDirectory();
    const node = await startNode(etcd, 'first/', { directory: directory.path });
    await node.request('PUT', '/v1/data/balloons/b-1', { n: 1 });
    await node.service.close();

    const refusal = async (start: Promise<TestService>): Promise<string> => {
      const error = await start.then(
        () => undefined,
        (reason: unknown) => reason,
      );
      expect(error).to.be.instanceOf(StoreError);
      return (error as StoreError).message;
    };
    expect(await refusal(TestService.start({ directory: directory.path }))).to.include('part of a cluster');
    expect(await refusal(startNode(etcd, 'other/', { directory: directory.path }))).to.include('no data of it');
    const [another] = await startCluster(1);
    expect(await refusal(startNode(etcd, `test-${prefixes}/`, { directory: directory.path }))).to.include(
      'not that of the cluster',
    );
    await another!.stop();

    detachStore(directory.path);
    const alone = await TestService.start({ directory: directory.path });
    expect((await alone.request('GET', '/v1/data/balloons')).json.documents).to.have.length(1);
    await alone.stop();
    // It may found a new cluster.
    const again = await startNode(etcd, 'again/', { directory: directory.path });
    expect((await again.request('GET', '/v1/data/balloons')).json.documents).to.have.length(1);
    await again.stop();
    directory.remove();
  });
});
