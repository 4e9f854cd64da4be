import { expect } from 'chai';
import { PROBLEMS, Receipt, type ProblemName } from '@uproar/protocol';
import { Random } from '../../../test/random.js';
import { TestService, until, type HttpAnswer } from '../../../test/service.js';

const ADJUST = { 'content-type': 'application/vnd.uproar.adjust+json' };
const JSON_PATCH = { 'content-type': 'application/json-patch+json' };

function expectProblem(answer: HttpAnswer, name: ProblemName, extra: object = {}): void {
  expect(answer.json, answer.text).to.deep.include({ type: `/problems/${name}`, ...PROBLEMS[name], ...extra });
  expect(answer.status).to.equal(PROBLEMS[name].status);
}

describe('commits', () => {
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start({
      documentLimits: { sizeBytes: 2000, depth: 8 },
      commitLimits: { writes: 20, sizeBytes: 20_000 },
    });
  });
  afterEach(() => service.stop());

  const commit = (body: object, headers?: Record<string, string>) =>
    service.request('POST', '/v1/commits', body, headers);
  const read = async (address: string) => (await service.request('GET', `/v1/data/${address}`)).json;

  it('contain every kind of write, and return the documents in the order of the writes', async () => {
    await service.request('PUT', '/v1/data/balloons/bl-17', { name: 'Amber', fuel: 5, crew: ['c-1'] });
    await service.request('PUT', '/v1/data/notices/n-3', { text: 'Wind from the west' });
    const { status, json } = await commit({
      writes: [
        { create: 'flights', data: { pad: 'p-1' } },
        { create: 'flights', id: 'f-7', data: {} },
        { put: 'pads/p-1', data: { claimedBy: 'c-1' }, ifVersion: 0 },
        { merge: 'balloons/bl-17', data: { status: 'aloft' }, ifVersion: 1 },
        {
          patch: 'balloons/bl-17',
          ops: [
            { op: 'test', path: '/status', value: 'aloft' },
            { op: 'remove', path: '/fuel' },
          ],
        },
        { adjust: 'balloons/bl-17', by: { '/crew': { with: ['c-2'] }, '/left': { now: true } } },
        { delete: 'notices/n-3' },
      ],
    });
    expect(status).to.equal(200);
    const receipt = Receipt.parse(json);
    expect(receipt.seq).to.equal(3);
    expect(
      receipt.documents.map(({ collection, id, version }) => `${collection}/${id}@${version}`).slice(1),
    ).to.deep.equal([
      'flights/f-7@3',
      'pads/p-1@3',
      'balloons/bl-17@3',
      'balloons/bl-17@3',
      'balloons/bl-17@3',
      'notices/n-3@0',
    ]);
    const balloon = await read('balloons/bl-17');
    expect(balloon.data).to.deep.equal({ name: 'Amber', crew: ['c-1', 'c-2'], status: 'aloft', left: balloon.updated });
    expect(await read('notices/n-3')).to.include({ type: '/problems/no-such-document' });
    const entry = (await service.request('GET', '/v1/journal?after=2')).json;
    expect(entry.events.map(({ id }: { id: string }) => id)).to.deep.equal([0, 1, 2, 3, 4, 5, 6].map((n) => `3.${n}`));
  });

  it('are refused whole, and say which write, which version was expected and which is there', async () => {
    await service.request('PUT', '/v1/data/pads/p-1', { claimedBy: null });
    await service.request('PUT', '/v1/data/crews/c-1', { headcount: 3, names: 'Ada' });
    const attempt = (write: object, extra: object = {}) =>
      commit({ writes: [{ put: 'pads/p-2', data: { half: 'done' } }, write], ...extra });
    const CASES: [object, ProblemName, object][] = [
      [
        { put: 'pads/p-1', data: {}, ifVersion: 7 },
        'version-mismatch',
        { write: 1, document: 'pads/p-1', expectedVersion: 7, currentVersion: 1 },
      ],
      [{ put: 'pads/p-1', data: {}, ifVersion: 0 }, 'version-mismatch', { write: 1, currentVersion: 1 }],
      [{ create: 'pads', id: 'p-1', data: {} }, 'document-exists', { write: 1, currentVersion: 1 }],
      [{ merge: 'pads/none', data: {} }, 'no-such-document', { write: 1, currentVersion: 0 }],
      [{ adjust: 'pads/none', by: { '/n': { add: 1 } } }, 'no-such-document', { write: 1 }],
      [{ adjust: 'crews/c-1', by: { '/names': { add: 1 } } }, 'adjust-failed', { write: 1, pointer: '/names' }],
      [
        { patch: 'crews/c-1', ops: [{ op: 'test', path: '/headcount', value: 4 }] },
        'test-failed',
        { write: 1, pointer: '/headcount', document: 'crews/c-1', currentVersion: 2 },
      ],
      [{ patch: 'crews/c-1', ops: [{ op: 'remove', path: '/x/y' }] }, 'patch-failed', { write: 1, pointer: '/x/y' }],
      [{ merge: 'crews/c-1', data: { long: 'x'.repeat(2100) } }, 'too-large', { write: 1, document: 'crews/c-1' }],
      [
        { put: 'crews/c-1', data: { a: { b: { c: { d: { e: { f: { g: { h: {} } } } } } } } } },
        'bad-document',
        { write: 1 },
      ],
    ];
    for (const [write, name, extra] of CASES) expectProblem(await attempt(write), name, extra);
    expectProblem(
      await attempt(
        { delete: 'pads/p-1' },
        {
          reads: [
            { doc: 'crews/c-1', version: 2 },
            { doc: 'crews/c-9', version: 4 },
          ],
        },
      ),
      'version-mismatch',
      {
        read: 1,
        document: 'crews/c-9',
        expectedVersion: 4,
        currentVersion: 0,
      },
    );
    expect(await read('pads/p-2'), 'nothing of them was applied').to.include({ type: '/problems/no-such-document' });
    expect((await service.request('GET', '/v1/collections')).json.seq).to.equal(2);
    const fine = await attempt(
      { merge: 'pads/p-1', data: { claimedBy: 'c-1' } },
      {
        reads: [
          { doc: 'crews/c-1', version: 2 },
          { doc: 'crews/c-9', version: 0 },
          { doc: 'pads/p-1', version: 1 },
        ],
      },
    );
    expect(fine.status, fine.text).to.equal(200);
  });

  it('are checked for their form, and say where it is wrong', async () => {
    const CASES: [unknown, ProblemName, string?][] = [
      [{}, 'bad-request', '/writes'],
      [{ writes: [] }, 'bad-request', '/writes'],
      [{ writes: [{ putt: 'a/b', data: {} }] }, 'bad-request'],
      [{ writes: [{ put: 'a/b', data: [] }] }, 'bad-document', '/writes/0/data'],
      [{ writes: [{ put: 'a/b', data: {}, ifVersion: -1 }] }, 'bad-request', '/writes/0/ifVersion'],
      [{ writes: [{ patch: 'a/b', ops: [{ op: 'addd', path: '' }] }] }, 'bad-request', '/writes/0/ops/0/op'],
      [
        { writes: [{ patch: 'a/b', ops: [{ op: 'add', path: 'x', value: 1 }] }] },
        'bad-request',
        '/writes/0/ops/0/path',
      ],
      [{ writes: [{ patch: 'a/b', ops: [{ op: 'add', path: '/x' }] }] }, 'bad-request', '/writes/0/ops/0/value'],
      [{ writes: [{ adjust: 'a/b', by: {} }] }, 'bad-request', '/writes/0/by'],
      [{ writes: [{ adjust: 'a/b', by: { '/a': { ad: 1 } } }] }, 'bad-request'],
      [{ writes: [{ adjust: 'a/b', by: { '/a': { add: 1, max: 1 } } }] }, 'bad-request'],
      [{ writes: [{ adjust: 'a/b', by: { '/a': { add: 1 }, '/a/b': { add: 1 } } }] }, 'bad-request'],
      [{ writes: [{ delete: 'a/b' }], reads: [{ doc: 'a', version: 1 }] }, 'bad-request', '/reads/0/doc'],
      [{ writes: [{ delete: 'a/b' }], id: 'not an id' }, 'bad-request', '/id'],
      [{ writes: Array.from({ length: 21 }, (_, n) => ({ put: `a/d-${n}`, data: {} })) }, 'too-large', '/writes'],
      [{ writes: [{ put: 'a/b', data: { text: 'x'.repeat(30_000) } }] }, 'too-large'],
    ];
    for (const [body, name, pointer] of CASES) {
      const answer = await commit(body as object);
      expectProblem(answer, name, pointer === undefined ? {} : { pointer });
    }
    expect((await service.request('GET', '/v1/collections')).json.seq).to.equal(0);
  });

  it('with keepExisting leave existing documents unchanged, and return their version', async () => {
    await service.request('PUT', '/v1/data/pads/p-1', { n: 1 });
    const { json } = await commit({
      writes: [
        { create: 'pads', id: 'p-1', data: { n: 2 }, keepExisting: true },
        { create: 'pads', id: 'p-2', data: { n: 2 }, keepExisting: true },
      ],
    });
    expect(json.documents.map(({ version }: { version: number }) => version)).to.deep.equal([1, 2]);
    expect((await read('pads/p-1')).data).to.deep.equal({ n: 1 });
    const none = await commit({ writes: [{ create: 'pads', id: 'p-1', data: {}, keepExisting: true }] });
    // What alters nothing takes no place in the order of commits.
    expect(none.json).to.deep.equal({ seq: 2, documents: [{ collection: 'pads', id: 'p-1', version: 1 }] });
    await service.request('PUT', '/v1/data/pads/p-3', {});
    const events = (await service.request('GET', '/v1/journal')).json.events as { subject: string }[];
    expect(events.map(({ subject }) => subject)).to.deep.equal(['pads/p-1', 'pads/p-2', 'pads/p-3']);
  });

  it('are applied once however often they are sent, also after a restart, and when they were refused', async () => {
    await service.request('PUT', '/v1/data/gates/g-1', { spectators: 0 });
    const count = { id: 'count-1', writes: [{ adjust: 'gates/g-1', by: { '/spectators': { add: 1 } } }] };
    const first = await commit(count);
    const together = await Promise.all(Array.from({ length: 8 }, () => commit(count)));
    await service.restart();
    const later = await commit({ writes: [{ adjust: 'gates/g-1', by: { '/spectators': { add: 1 } } }], id: 'count-1' });
    for (const answer of [...together, later]) {
      expect(answer.status).to.equal(200);
      expect(answer.json).to.deep.equal(first.json);
    }
    expect((await read('gates/g-1')).data).to.deep.equal({ spectators: 1 });

    expectProblem(await commit({ ...count, writes: [{ delete: 'gates/g-1' }] }), 'id-reused');
    const refused = await commit({ id: 'early', writes: [{ merge: 'gates/g-2', data: { n: 1 } }] });
    expectProblem(refused, 'no-such-document');
    await service.request('PUT', '/v1/data/gates/g-2', {});
    const again = await commit({ id: 'early', writes: [{ merge: 'gates/g-2', data: { n: 1 } }] });
    expect(again.json, 'the first outcome, though it would go now').to.deep.equal(refused.json);

    const client = service.client();
    expect(await client.commit(count as never), 'over another interface').to.deep.equal(first.json);
  });

  it('with the same id sent at the same moment are applied once', async () => {
    const ids = Array.from({ length: 20 }, (_, n) => `burst-${n % 5}`);
    const answers = await Promise.all(ids.map((id) => commit({ id, writes: [{ create: 'flights', data: { id } }] })));
    expect(new Set(answers.map(({ json }) => json.seq)).size).to.equal(5);
    expect((await service.request('GET', '/v1/data/flights')).json.documents).to.have.length(5);
  });

  it('take an Idempotency-Key in place of an id', async () => {
    const headers = { 'idempotency-key': '"key-1"' };
    const body = { writes: [{ create: 'flights', data: { n: 1 } }] };
    const first = await commit(body, headers);
    expect((await commit(body, { 'idempotency-key': 'key-1' })).json).to.deep.equal(first.json);
    expect((await commit({ ...body, id: 'key-1' }, headers)).json).to.deep.equal(first.json);
    expectProblem(await commit({ ...body, id: 'key-2' }, headers), 'bad-request', { pointer: '/id' });
    expectProblem(await commit(body, { 'idempotency-key': 'a b' }), 'bad-request', { parameter: 'Idempotency-Key' });
  });

  it('that wait in great number are turned away with Retry-After, and nothing is lost or doubled', async () => {
    const narrow = await TestService.start({ waiting: { commits: 3 } });
    const answers = await Promise.all(
      Array.from({ length: 60 }, (_, n) => narrow.request('PUT', `/v1/data/d/d-${n}`, { n })),
    );
    const turned = answers.filter(({ status }) => status === 503);
    for (const answer of turned) {
      expectProblem(answer, 'overloaded');
      expect(answer.headers.get('retry-after')).to.equal('1');
    }
    const listed = (await narrow.request('GET', '/v1/data/d')).json.documents as { data: { n: number } }[];
    const taken = answers.flatMap(({ status }, n) => (status === 201 ? n : []));
    expect(listed.map(({ data }) => data.n).sort((a, b) => a - b)).to.deep.equal(taken);
    await narrow.stop();
  });

  it('of one connection are applied in the order in which they were sent, large ones between small ones', async () => {
    const client = service.client();
    await client.ready();
    const random = new Random(5);
    const receipts = await Promise.all(
      Array.from({ length: 60 }, (_, n) =>
        client.commit({
          writes: [
            { put: 'order/last', data: { n } },
            ...Array.from({ length: random.integer(0, 18) }, (_, i) => ({ put: `order/x-${i}`, data: { n } })),
          ],
        }),
      ),
    );
    expect(receipts.map(({ seq }) => seq)).to.deep.equal(receipts.map((_, n) => receipts[0]!.seq + n));
    expect((await read('order/last')).data).to.deep.equal({ n: 59 });
  });
});

describe('writes of one document over HTTP', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('take a JSON Patch whose test is a condition on a field', async () => {
    await service.request('PUT', '/v1/data/pads/p-1', { claimedBy: null, crews: ['c-1'] });
    const claim = [
      { op: 'test', path: '/claimedBy', value: null },
      { op: 'replace', path: '/claimedBy', value: 'c-1', extra: 'is ignored' },
    ];
    const claimed = await service.request('PATCH', '/v1/data/pads/p-1', claim, JSON_PATCH);
    expect(claimed.json.data).to.deep.equal({ claimedBy: 'c-1', crews: ['c-1'] });
    expect(claimed.headers.get('etag')).to.equal(`"${claimed.json.version}"`);
    expectProblem(await service.request('PATCH', '/v1/data/pads/p-1', claim, JSON_PATCH), 'test-failed', {
      pointer: '/claimedBy',
    });
    expectProblem(await service.request('PATCH', '/v1/data/pads/p-1', { op: 'add' }, JSON_PATCH), 'bad-request');
    const move = [{ op: 'move', from: '/x~', path: '/a' }];
    expectProblem(await service.request('PATCH', '/v1/data/pads/p-1', move, JSON_PATCH), 'bad-request', {
      pointer: '/0/from',
    });
  });

  it('take adjustments, so that counts made at the same time add up', async () => {
    await service.request('PUT', '/v1/data/gates/g-1', {});
    await Promise.all(
      Array.from({ length: 50 }, () =>
        service.request('PATCH', '/v1/data/gates/g-1', { '/in': { add: 2 }, '/day/peak': { max: 7 } }, ADJUST),
      ),
    );
    const { json } = await service.request('GET', '/v1/data/gates/g-1');
    expect(json.data).to.deep.equal({ in: 100, day: { peak: 7 } });
    expectProblem(
      await service.request('PATCH', '/v1/data/gates/g-1', { '/day': { add: 1 } }, ADJUST),
      'adjust-failed',
      {
        pointer: '/day',
      },
    );
    expectProblem(await service.request('PATCH', '/v1/data/gates/g-1', { day: { add: 1 } }, ADJUST), 'bad-request', {
      pointer: '/day',
    });
    const wrong = await service.request('PATCH', '/v1/data/gates/g-1', {}, { 'content-type': 'application/json' });
    expectProblem(wrong, 'unsupported-type');
    expect(wrong.headers.get('accept-patch')).to.include('adjust');
  });

  it('say in a failed precondition which version was expected', async () => {
    const { json } = await service.request('PUT', '/v1/data/pads/p-5', {});
    const answer = await service.request('PUT', '/v1/data/pads/p-5', { n: 1 }, { 'if-match': '"999"' });
    expectProblem(answer, 'precondition-failed', { expectedVersion: 999, currentVersion: json.version });
  });

  it('are done once for one Idempotency-Key, and answered as they were', async () => {
    const headers = { 'idempotency-key': 'a1' };
    const created = await service.request('POST', '/v1/data/flights', { n: 1 }, headers);
    expect(created.status).to.equal(201);
    const id = created.json.id as string;
    const patched = await service.request('PATCH', `/v1/data/flights/${id}`, { n: 2 }, { 'idempotency-key': 'a2' });
    await service.request('PATCH', `/v1/data/flights/${id}`, { n: 3 });
    await service.restart();
    const again = await service.request('POST', '/v1/data/flights', { n: 1 }, headers);
    expect([again.status, again.json]).to.deep.equal([201, created.json]);
    expect(again.headers.get('location')).to.equal(created.headers.get('location'));
    const patchedAgain = await service.request(
      'PATCH',
      `/v1/data/flights/${id}`,
      { n: 2 },
      { 'idempotency-key': 'a2' },
    );
    expect([patchedAgain.status, patchedAgain.json]).to.deep.equal([200, patched.json]);
    expect((await service.request('GET', `/v1/data/flights/${id}`)).json.data).to.deep.equal({ n: 3 });
    expectProblem(await service.request('POST', '/v1/data/flights', { n: 9 }, headers), 'id-reused');
    expectProblem(await service.request('POST', '/v1/data/pads', { n: 1 }, headers), 'id-reused');
    expect((await service.request('GET', '/v1/data/flights')).json.documents).to.have.length(1);
  });

  it('read a document as it was at an earlier seq', async () => {
    const seqs: number[] = [];
    for (let n = 0; n < 4; n++) seqs.push((await service.request('PUT', '/v1/data/crews/c-1', { n })).json.version);
    await service.request('DELETE', '/v1/data/crews/c-1');
    const at = (seq: unknown) => service.request('GET', `/v1/data/crews/c-1?at=${String(seq)}`);
    for (const [n, seq] of seqs.entries()) {
      const answer = await at(seq);
      expect(answer.json).to.deep.include({ version: seq, data: { n } });
      expect(answer.headers.get('etag')).to.equal(`"${seq}"`);
    }
    expectProblem(await at(seqs[0]! - 1), 'no-such-document', { document: 'crews/c-1' });
    expectProblem(await at(seqs[3]! + 1), 'no-such-document');
    expectProblem(await at(99_999), 'seq-ahead', { parameter: 'at' });
    expectProblem(await at('x'), 'bad-request', { parameter: 'at' });
    expectProblem(await service.request('GET', '/v1/data/crews/c-1?att=3'), 'bad-request');
    const client = service.client();
    expect(await client.call('get', { doc: 'crews/c-1', at: seqs[1]! })).to.deep.include({ data: { n: 1 } });
  });

  it('return the history of a document, newest or oldest first', async () => {
    const address = '/v1/data/balloons/bl-1';
    await service.request('PUT', address, { n: 0 });
    for (let n = 1; n < 6; n++) {
      await service.request('PUT', '/v1/data/balloons/bl-2', { n });
      await service.request('PATCH', address, { n });
    }
    type Page = { events: { seq: number; data: { after: { data: { n: number } } } }[]; seq: number; more: boolean };
    const seen: number[] = [];
    let before: number | 'now' = 'now';
    for (let more = true; more;) {
      const page: Page = (await service.request('GET', `/v1/journal?doc=balloons/bl-1&before=${before}&limit=4`)).json;
      seen.push(...page.events.map(({ data }) => data.after.data.n));
      ({ more, seq: before } = page);
    }
    expect(seen).to.deep.equal([5, 4, 3, 2, 1, 0]);
    const onwards: Page = (await service.request('GET', '/v1/journal?doc=balloons/bl-1&limit=2')).json;
    expect(onwards).to.include({ more: true });
    expect(onwards.events.map(({ data }) => data.after.data.n)).to.deep.equal([0, 1]);
    expect((await service.request('GET', '/v1/journal?doc=none/none&before=now')).json).to.deep.include({
      events: [],
      more: false,
    });
    expectProblem(await service.request('GET', '/v1/journal?before=now&after=1'), 'bad-request', {
      parameter: 'before',
    });
    const all: Page = (await service.request('GET', '/v1/journal?before=now&limit=3')).json;
    const { seq } = (await service.request('GET', '/v1/collections')).json as { seq: number };
    expect(all.events.map((event) => event.seq)).to.deep.equal([seq, seq - 1, seq - 2]);
  });
});

describe('a large import', () => {
  it('does not hold up small writes for long', async function () {
    const service = await TestService.start();
    const importer = service.client({ callTimeoutMs: 50_000 });
    const other = service.client();
    await Promise.all([importer.ready(), other.ready()]);
    let imported = 0;
    const large = Array.from({ length: 24 }, (_, part) =>
      importer
        .commit({ writes: Array.from({ length: 1000 }, (_, n) => ({ put: `big/d-${part}-${n}`, data: { n } })) })
        .then(() => imported++),
    );
    let overtaking = 0;
    await until('the import is running', () => imported > 0);
    while (imported < 20) {
      const before = imported;
      await other.commit({ writes: [{ put: 'small/one', data: { before } }] });
      if (imported - before > 2) overtaking++;
    }
    expect(overtaking, 'times that a small write waited for more than two large ones').to.equal(0);
    await Promise.all(large);
    await service.stop();
  });
});
