import { expect } from 'chai';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Erasure, JournalEvent } from '@uproar/protocol';
import { checkStore, databaseFile } from '../dist/store/index.js';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd } from '../../../test/etcd.js';
import { HookReceiver } from '../../../test/hook-receiver.js';
import { KEY, TestService, temporaryDirectory, until } from '../../../test/service.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { StreamReader } from '../../../test/event-stream.js';

/** What must be found nowhere after an erasure. */
const SECRET = 'Nightjar-Lane-42';

/** The files below a directory that hold a text, by their paths. */
function filesWith(directory: string, text: string): string[] {
  const entries = readdirSync(directory, { recursive: true, withFileTypes: true });
  return entries
    .filter((entry) => entry.isFile())
    .map(({ parentPath, name }) => join(parentPath, name))
    .filter((path) => readFileSync(path).includes(text));
}

const ask = async (service: TestService, method: string, path: string, body?: unknown, headers = {}) => {
  const answer = await service.request(method, path, body, headers);
  expect(answer.status, `${method} ${path}: ${answer.text}`).to.be.oneOf([200, 201, 202, 204]);
  return answer.json as never;
};
const erase = (service: TestService, form: object): Promise<Erasure> => ask(service, 'POST', '/v1/erasures', form);
const journal = async (service: TestService, parameters: string) =>
  ((await ask(service, 'GET', `/v1/journal?${parameters}`)) as { events: JournalEvent[] }).events;

async function rewritten(service: TestService, { id }: Erasure): Promise<Erasure> {
  let state: Erasure;
  await until('the files are rewritten', async () => {
    state = await ask(service, 'GET', `/v1/erasures/${id}`);
    return state.state === 'done';
  });
  return state!;
}

describe('an erasure', () => {
  let service: TestService;
  let receiver: HookReceiver;
  before(async () => (receiver = await HookReceiver.start()));
  after(() => receiver.stop());
  beforeEach(async () => {
    service = await TestService.start({ hooks: { networks: ['127.0.0.1'] } });
  });
  afterEach(() => service.stop());

  it('leaves nothing of a document in the files of the store', async () => {
    await ask(service, 'POST', '/v1/indexes', { collection: 'guests', fields: 'address' });
    await ask(service, 'POST', '/v1/hooks', { name: 'desk', url: receiver.url, collection: 'guests' });
    receiver.answer = ({ body }, response) => response.writeHead(200).end(body.slice(0, 400));
    for (let n = 0; n < 40; n++) {
      const address = `${SECRET} ${n} ${'x'.repeat(n * 200)}`;
      await ask(service, 'POST', '/v1/commits', {
        id: `write-${n}`,
        writes: [{ put: 'guests/ada', data: { address } }],
      });
      await ask(service, 'PUT', `/v1/data/guests/other-${n}`, { address: `Elsewhere ${n}` });
    }
    await ask(service, 'PUT', '/v1/data/guests/bo', { address: `${SECRET} 7` });
    await ask(service, 'DELETE', '/v1/data/guests/bo');
    await ask(service, 'PUT', '/v1/schemas/guests', {
      mode: 'enforce',
      schema: { properties: { address: { type: 'string' } } },
    });
    const bad = { id: 'refused', writes: [{ put: 'guests/ada', data: { address: [SECRET] } }] };
    expect((await service.request('POST', '/v1/commits', bad)).status).to.equal(422);
    await until('the hook has delivered', () => receiver.received.length >= 82);
    await ask(service, 'GET', '/v1/hooks/desk/deliveries');
    expect(filesWith(service.directory, SECRET), 'before').to.not.deep.equal([]);

    const preview = await ask(service, 'POST', '/v1/erasures', {
      collection: 'guests',
      where: `address LIKE '${SECRET}%'`,
      dryRun: true,
    });
    expect(preview).to.deep.equal({ documents: 1, earlier: 1 });
    const erasure = await erase(service, {
      collection: 'guests',
      where: `address LIKE '${SECRET}%'`,
      past: true,
      reason: 'asked for',
    });
    expect(erasure).to.include({ documents: 2, changes: 42, reason: 'asked for', identity: 'key:environment' });
    const done = await rewritten(service, erasure);
    expect(done.waiting).to.deep.equal([]);
    await service.request('GET', '/v1/hooks/desk/deliveries');
    expect(filesWith(service.directory, SECRET), 'while the store is open').to.deep.equal([]);
    expect((await service.request('GET', '/v1/data/guests/ada')).status).to.equal(404);
    expect((await service.request('GET', '/v1/data/guests?limit=100')).json)
      .to.have.property('documents')
      .with.length(40);
    await service.restart();
    expect(filesWith(service.directory, SECRET), 'after a restart').to.deep.equal([]);
    await service.service.close();
    const report = checkStore(databaseFile(service.directory));
    expect(report.results.flatMap(({ faults }) => faults)).to.deep.equal([]);
    await service.restart().catch(() => undefined);
  });

  it('keeps the order of the journal, records who erased what and when, and refuses reads of erased states', async () => {
    await ask(service, 'PUT', '/v1/data/guests/ada', { n: 1 });
    await ask(service, 'POST', '/v1/commits', {
      writes: [
        { put: 'guests/ada', data: { n: 2 } },
        { put: 'guests/bo', data: { n: 2 } },
      ],
    });
    await ask(service, 'PUT', '/v1/data/guests/bo', { n: 3 });
    const { seq } = await erase(service, { doc: 'guests/ada' });
    expect(seq).to.equal(4);
    const short = (await journal(service, 'after=0')).map(({ seq: at, type, subject, identity, data }) => [
      at,
      type.split('.').at(-1),
      subject,
      identity,
      data.after?.data ?? null,
    ]);
    expect(short).to.deep.equal([
      [1, 'erased', 'guests/ada', 'key:environment', null],
      [2, 'erased', 'guests/ada', 'key:environment', null],
      [2, 'created', 'guests/bo', 'key:environment', { n: 2 }],
      [3, 'updated', 'guests/bo', 'key:environment', { n: 3 }],
      [4, 'erased', 'guests/ada', 'key:environment', null],
    ]);
    expect((await journal(service, 'doc=guests/ada')).map(({ type }) => type.split('.').at(-1))).to.deep.equal([
      'erased',
      'erased',
      'erased',
    ]);
    expect(await journal(service, 'collection=guests&where=n%3E0')).to.have.length(2);
    const past = await service.request('GET', '/v1/data/guests/ada?at=1');
    expect([past.status, past.json!.type]).to.deep.equal([410, '/problems/erased']);
    expect(((await ask(service, 'GET', '/v1/data/guests/bo?at=2')) as { data: object }).data).to.deep.equal({ n: 2 });
    expect((await service.request('GET', '/v1/data/guests/ada?at=4')).status, 'it did not exist then').to.equal(404);
    await ask(service, 'PUT', '/v1/data/guests/ada', { n: 9 });
    expect(((await ask(service, 'GET', '/v1/data/guests/ada?at=5')) as { data: object }).data).to.deep.equal({ n: 9 });
    expect((await service.request('GET', '/v1/data/guests/ada?at=3')).status).to.equal(410);
    const again = await erase(service, { doc: 'guests/ada' });
    expect(again).to.include({ documents: 1, changes: 1, seq: 6 });
  });

  it('reaches all watches at once, and resets watches that resume from before', async () => {
    for (const id of ['ada', 'bo', 'cy']) await ask(service, 'PUT', `/v1/data/guests/${id}`, { n: 1 });
    const paths = ['', '?order=-n&limit=2', '?summary=count()', '/ada'];
    const readers = await Promise.all(paths.map((path) => StreamReader.open(`${service.url}/v1/data/guests${path}`)));
    await Promise.all(readers.map((reader) => until('it begins', () => reader.events.length > 0)));
    readers.forEach((reader) => reader.close());
    const live = await Promise.all(paths.map((path) => StreamReader.open(`${service.url}/v1/data/guests${path}`)));
    await Promise.all(live.map((reader) => until('it begins', () => reader.events.length > 0)));
    await erase(service, { doc: 'guests/ada' });
    await until('it has gone from the list', () => !('ada' in live[0]!.state));
    await until('and from its own', () => !('ada' in live[3]!.state));
    live.forEach((reader) => reader.close());
    const resumed = await Promise.all(
      paths.map((path, at) => StreamReader.open(`${service.url}/v1/data/guests${path}`, readers[at])),
    );
    for (const [at, reader] of resumed.entries()) {
      await until('it resumes', () => reader.events.length > 0);
      expect(reader.events[0]!.event, paths[at]).to.equal('reset');
      expect(Object.keys(reader.state), paths[at]).to.not.include('ada');
      reader.close();
    }
    expect(Object.keys(resumed[0]!.state)).to.have.members(['bo', 'cy']);
  });

  it('is delivered to hooks, except hooks with claims', async () => {
    await service.setPolicy({ collections: { guests: { read: 'n > 0' } } });
    await ask(service, 'POST', '/v1/hooks', { name: 'all', url: receiver.url, collection: 'guests', where: 'n > 5' });
    await ask(service, 'POST', '/v1/hooks', {
      name: 'some',
      url: `${receiver.url}?some`,
      collection: 'guests',
      claims: { sub: 'x' },
    });
    receiver.received.length = 0;
    await ask(service, 'PUT', '/v1/data/guests/ada', { n: 9 });
    await until('both hooks have it', () => receiver.received.length === 2);
    const { seq } = await erase(service, { doc: 'guests/ada' });
    await until('the hook has it', () => receiver.received.length === 3);
    await new Promise((resolve) => setTimeout(resolve, 300));
    expect(receiver.received).to.have.length(3);
    expect(receiver.received[2]!.event).to.include({ type: 'uproar.document.erased', subject: 'guests/ada', seq });
    expect(receiver.received[2]!.event.data).to.deep.equal({ before: null, after: null });
  });

  it('answers a retry of an erased commit without applying it again', async () => {
    const commit = {
      id: 'once',
      writes: [
        { put: 'guests/ada', data: { n: 1 } },
        { put: 'guests/bo', data: {} },
      ],
    };
    await ask(service, 'POST', '/v1/commits', commit);
    const send = (key: string) => service.request('POST', '/v1/data/guests', { n: 1 }, { 'idempotency-key': key });
    const { id } = (await send('single')).json as { id: string };
    const kept = await send('other');
    await erase(service, { doc: 'guests/ada' });
    await erase(service, { doc: `guests/${id}` });
    expect(await ask(service, 'POST', '/v1/commits', commit)).to.deep.equal({ seq: 1, documents: [] });
    const retried = await send('single');
    expect([retried.status, retried.json!.type]).to.deep.equal([410, '/problems/erased']);
    expect((await service.request('GET', '/v1/data/guests/ada')).status).to.equal(404);
    const { json } = await service.request('GET', '/v1/data/guests?summary=count()');
    expect((json as { documents: { data: object }[] }).documents[0]!.data, 'not made again').to.deep.equal({
      'count()': 2,
    });
    expect(await send('other'), 'the others are answered as before').to.deep.include({
      status: kept.status,
      text: kept.text,
    });
  });

  it('removes the contents of a file, of all its versions, unless another file has them', async () => {
    const upload = (id: string, text: string) =>
      ask(service, 'PUT', `/v1/files/${id}/content`, Buffer.from(text) as never, { 'content-type': 'text/plain' });
    await upload('letter', `${SECRET} first`);
    await upload('letter', `${SECRET} second`);
    await upload('letter', 'common');
    await upload('copy', 'common');
    const erasure = await erase(service, { doc: 'files/letter' });
    await rewritten(service, erasure);
    expect(filesWith(service.directory, SECRET)).to.deep.equal([]);
    expect((await service.request('GET', '/v1/files/copy/content')).text).to.equal('common');
  });

  it('erases ids as well where that is asked for', async () => {
    const id = 'nightjar.lane';
    await ask(service, 'POST', '/v1/commits', { id: 'with-id', writes: [{ create: 'guests', id, data: { n: 1 } }] });
    await ask(service, 'PUT', `/v1/data/guests/${id}`, { n: 2 });
    const erasure = await erase(service, { doc: `guests/${id}`, forgetIds: true });
    await rewritten(service, erasure);
    expect(filesWith(service.directory, id)).to.deep.equal([]);
    const subjects = (await journal(service, 'after=0')).map(({ subject }) => subject);
    expect(new Set(subjects)).to.deep.equal(new Set([`guests/erased-${erasure.id}-1`]));
    expect((await service.request('GET', `/v1/data/guests/${id}?at=1`)).status).to.equal(410);
    expect((await service.request('GET', '/v1/data/guests/never?at=1')).status, 'which ids there were').to.equal(410);
    expect((await service.request('GET', '/v1/data/guests/never?at=3')).status).to.equal(404);
  });

  it('of many documents with many changes is done in parts, while others write', async function () {
    this.timeout(60_000);
    for (let round = 0; round < 8; round++) {
      const writes = Array.from({ length: 500 }, (_, n) => ({
        put: `guests/g-${n}`,
        data: { n, round, text: SECRET },
      }));
      await ask(service, 'POST', '/v1/commits', { id: `round-${round}`, writes });
    }
    let writing = true;
    let written = 0;
    const others = (async () => {
      while (writing) await ask(service, 'PUT', '/v1/data/others/o', { n: ++written });
    })();
    const erasure = await erase(service, { collection: 'guests', where: 'n < 400' });
    await rewritten(service, erasure);
    writing = false;
    await others;
    expect(erasure).to.include({ documents: 400, changes: 3200, state: 'rewriting' });
    expect(written, 'others have written meanwhile').to.be.above(3);
    const events = await journal(service, 'doc=guests/g-3');
    expect(events.map(({ type }) => type.split('.').at(-1))).to.deep.equal(Array(9).fill('erased'));
    expect(await journal(service, 'doc=guests/g-450')).to.have.length(8);
    const { json } = await service.request('GET', '/v1/data/guests?summary=count()');
    expect((json as { documents: { data: object }[] }).documents[0]!.data).to.deep.equal({ 'count()': 100 });
  });

  it('lists the backups that hold erased documents; later backups do not contain them', async () => {
    const backup = async () => {
      const { id } = (await ask(service, 'POST', '/v1/backups')) as { id: string };
      await until(
        'the backup is ready',
        async () => ((await ask(service, 'GET', `/v1/backups/${id}`)) as { state: string }).state === 'ready',
      );
      const response = await fetch(`${service.url}/v1/backups/${id}/content`, {
        headers: { authorization: `Bearer ${KEY}` },
      });
      const bytes = Buffer.from(await response.arrayBuffer());
      await ask(service, 'DELETE', `/v1/backups/${id}`);
      return { id, bytes };
    };
    await ask(service, 'PUT', '/v1/data/others/o', {});
    await backup();
    await ask(service, 'PUT', '/v1/data/guests/ada', { text: SECRET });
    const second = await backup();
    await ask(service, 'DELETE', '/v1/data/guests/ada');
    const third = await backup();
    const { backups, id } = await erase(service, { doc: 'guests/ada' });
    expect(backups.map((one) => one.id)).to.deep.equal([second.id, third.id]);
    expect(backups[0]).to.include({ seq: 2, identity: 'key:environment', sizeBytes: second.bytes.length });
    expect(third.bytes.includes(SECRET)).to.equal(true);
    expect((await backup()).bytes.includes(SECRET), 'a later one').to.equal(false);
    expect(
      ((await ask(service, 'GET', '/v1/erasures')) as { erasures: Erasure[] }).erasures.map((one) => one.id),
    ).to.deep.equal([id]);
  });

  it('of a long history lists the backups since its beginning only', async () => {
    await ask(service, 'PUT', '/v1/data/others/o', {});
    const { log } = service.service.store;
    const author = { kind: 'key' as const, name: 'test' };
    const made = (id: string, seq: number) =>
      log.propose({ kind: 'backup-made', timeMs: Date.now(), id, author, seq, sizeBytes: 1, sha256: 'x' });
    await made('before', 1);
    for (let n = 0; n < 1300; n += 100) {
      const writes = Array.from({ length: 100 }, (_, at) => ({ put: 'guests/ada', data: { n: n + at } }));
      await ask(service, 'POST', '/v1/commits', { writes });
    }
    await made('after', 3);
    const { backups, changes } = await erase(service, { doc: 'guests/ada' });
    expect([changes, backups.map(({ id }) => id)]).to.deep.equal([1300, ['after']]);
  });

  it('counts a document once that a record names twice', async () => {
    const { log } = service.service.store;
    for (const id of ['ada', 'bo']) await ask(service, 'PUT', `/v1/data/guests/${id}`, { n: 1 });
    const [timeMs, collection, erasure] = [Date.now(), 'guests', 'twice'];
    const author = { kind: 'key' as const, name: 'test' };
    await log.propose({ kind: 'erasure-begun', timeMs, id: erasure, author, collection, forgetsIds: false });
    const ids = ['ada', 'ada', 'nobody'];
    const { done } = await log.propose({ kind: 'documents-erased', timeMs, erasure, collection, ids, changes: 100 });
    expect(done).to.equal(3);
    const { json } = await service.request('GET', '/v1/collections');
    const [guests] = (json as { documents: { data: { documents: number } }[] }).documents;
    expect(guests!.data.documents).to.equal(1);
    expect(await ask(service, 'GET', '/v1/erasures/twice')).to.include({ documents: 1, changes: 1 });
  });

  it('that is asked for wrongly erases nothing', async () => {
    await ask(service, 'PUT', '/v1/data/guests/ada', { n: 1 });
    for (const [form, status] of [
      [{}, 400],
      [{ doc: 'guests' }, 400],
      [{ doc: 'guests/nobody' }, 404],
      [{ collection: 'guests' }, 400],
      [{ doc: 'guests/ada', collection: 'guests', where: 'n = 1' }, 400],
      [{ collection: 'guests', where: 'n =' }, 400],
      [{ doc: 'guests/ada', soon: true }, 400],
    ] as const) {
      expect((await service.request('POST', '/v1/erasures', form)).status, JSON.stringify(form)).to.equal(status);
    }
    const { key } = (await ask(service, 'POST', '/v1/keys', { name: 'w', scope: 'write' })) as { key: string };
    expect((await service.as(key)('POST', '/v1/erasures', { doc: 'guests/ada' })).status).to.equal(403);
    expect((await service.request('GET', '/v1/erasures/none')).status).to.equal(404);
    const nothing = await erase(service, { collection: 'guests', where: 'n = 2' });
    expect(nothing).to.include({ documents: 0, changes: 0, seq: 0 });
    const nowhere = await rewritten(service, await erase(service, { collection: 'nowhere', where: 'n = 2' }));
    expect(nowhere).to.include({ documents: 0, state: 'done' });
    expect((await service.request('GET', '/v1/data/guests/ada')).status).to.equal(200);
  });

  it('removes the document from the watches of a socket, and releases it', async () => {
    const socket = await RawSocket.open(service);
    await socket.call('hello', { token: KEY });
    await socket.call('commit', { writes: [{ put: 'online/ada', data: { n: 1 }, whileConnected: true }] });
    await erase(service, { doc: 'online/ada' });
    expect((await socket.call('get', { doc: 'online/ada' })).error.code).to.equal(404);
    socket.socket.terminate();
    await service.restart();
    expect((await service.request('GET', '/v1/data/online/ada')).status).to.equal(404);
  });
});

describe('an erasure in a cluster', function () {
  this.timeout(90_000);

  it('is the same on all nodes, and leaves nothing in their files', async () => {
    const etcd = await Etcd.start(1);
    const directories = [temporaryDirectory(), temporaryDirectory(), temporaryDirectory()];
    const nodes: TestService[] = [];
    for (const { path } of directories) nodes.push(await startNode(etcd, 'erase/', { directory: path }));
    try {
      for (let n = 0; n < 10; n++) await ask(nodes[n % 3]!, 'PUT', '/v1/data/guests/ada', { text: SECRET, n });
      await until('all have it', async () => {
        const found = await Promise.all(nodes.map((node) => node.request('GET', '/v1/data/guests/ada')));
        return found.every(({ json }) => (json as { data?: { n: number } } | undefined)?.data?.n === 9);
      });
      const erasure = await erase(nodes[1]!, { doc: 'guests/ada' });
      for (const node of nodes) await rewritten(node, erasure);
      for (const { path } of directories) expect(filesWith(path, SECRET), path).to.deep.equal([]);
      const journals = await Promise.all(nodes.map((node) => journal(node, 'after=0')));
      expect(journals[1]).to.deep.equal(journals[0]);
      expect(journals[2]).to.deep.equal(journals[0]);
      expect(new Set(journals[0]!.map(({ type }) => type))).to.deep.equal(new Set(['uproar.document.erased']));
    } finally {
      for (const node of nodes) await node.stop();
      await etcd.stop();
      for (const { remove } of directories) remove();
    }
  });
});
