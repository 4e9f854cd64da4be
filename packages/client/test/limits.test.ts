import { expect } from 'chai';
import { connect, FileStorage, isProblem, ProblemError, type Refused, type Store } from '@uproar/client';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const failureOf = async (promise: Promise<unknown>): Promise<ProblemError> => {
  try {
    await promise;
  } catch (error) {
    return error as ProblemError;
  }
  throw new Error('It was expected to fail.');
};

describe('what the client does not send', () => {
  let service: TestService;
  before(
    async () => (service = await TestService.start({ tokens: TOKEN_SETTINGS, commitLimits: { sizeBytes: 100_000 } })),
  );
  after(() => service.stop());

  it('is a commit that the store could never take; those behind it go through, over both transports', async () => {
    for (const transport of ['socket', 'http'] as const) {
      const store = service.client({ transport });
      await store.ready();
      const notes = store.collection(`notes-${transport}`);
      const large = failureOf(notes.put('n-1', { text: 'x'.repeat(200_000) }));
      const behind = notes.put('n-2', { text: 'small' });
      expect(isProblem(await large, transport === 'socket' ? 'too-large' : 'too-large')).to.equal(true);
      await behind;
      expect((await notes.get('n-2'))!.data).to.deep.equal({ text: 'small' });
      // One that just fits, with all that is around it.
      await notes.put('n-3', { text: 'x'.repeat(99_000) });
    }
  });

  it('are values that JSON has no form for, which are named with their place', async () => {
    const store = service.client();
    const odd: [unknown, string][] = [
      [{ n: Number.NaN }, '/n'],
      [{ n: Number.POSITIVE_INFINITY }, '/n'],
      [{ list: [1, undefined] }, '/list/1'],
      [{ map: new Map([[1, 2]]) }, '/map'],
      [{ set: new Set([1]) }, '/set'],
      [{ act: () => 1 }, '/act'],
      [{ big: 10n }, '/big'],
      [{ bytes: new Uint8Array(4) }, '/bytes'],
    ];
    for (const [data, pointer] of odd) {
      const error = await failureOf(store.collection('notes').put('n-1', data as never));
      expect(error, pointer).to.be.instanceOf(ProblemError);
      expect(error.problem.pointer).to.equal(`/writes/0/data${pointer}`);
    }
    await store.collection('notes').put('n-1', { at: new Date(0) as never, left: undefined as never, n: 1e16 });
    expect((await store.collection('notes').get('n-1'))!.data).to.deep.equal({
      at: '1970-01-01T00:00:00.000Z',
      n: 1e16,
    });
    await store.collection('notes').merge('n-1', { n: 2e16 });
    expect((await store.collection('notes').get('n-1'))!.data.n).to.equal(2e16);
  });

  it('is what could not be kept in the storage, neither now nor later', async () => {
    const { path, remove } = temporaryDirectory();
    const storage = new FileStorage(path);
    const store = service.client({ storage });
    await store.ready();
    storage.close();
    // The file is gone from under it, as with a disk that fails.
    Object.assign(storage, { announce: undefined });
    const failing = new FileStorage(path);
    Object.defineProperty(failing, 'putEntry', {
      value: () => {
        throw new Error('the disk is full');
      },
    });
    const second = connect(service.url, { token: KEY, storage: failing });
    await second.ready();
    const error = await failureOf(second.collection('notes').put('lost', { n: 1 }));
    expect(error.message).to.include('the disk is full');
    expect(second.pending).to.equal(0);
    await new Promise((resolve) => setTimeout(resolve, 200));
    expect(await store.collection('notes').get('lost')).to.equal(undefined);
    second.close();
    remove();
  });
});

describe('small things that the client gets right', () => {
  let service: TestService;
  let store: Store;
  before(async () => {
    service = await TestService.start({ tokens: TOKEN_SETTINGS });
    store = service.client();
  });
  after(() => service.stop());

  it('a failed view keeps its error when something is written', async () => {
    const watch = store.collection('notes').where('this is no condition').watch();
    const stop = watch.subscribe(() => undefined);
    await until('it has failed', () => watch.current.state === 'failed');
    const { error } = watch.current;
    expect(error?.type).to.equal('/problems/bad-query');
    await store.collection('notes').put('n-1', { n: 1 });
    expect([watch.current.state, watch.current.error]).to.deep.equal(['failed', error]);
    stop();
  });

  it('does not call onRefused for a conflict that a transaction retries', async () => {
    const refusals: Refused[] = [];
    const other = service.client({ onRefused: (refused) => void refusals.push(refused) });
    await store.collection('counters').put('c-1', { n: 0 });
    let attempts = 0;
    await other.transaction(async (transaction) => {
      const counter = (await transaction.get(other.collection('counters'), 'c-1'))!;
      if (attempts++ === 0) await store.collection('counters').put('c-1', { n: 10 });
      transaction.put(other.collection('counters'), 'c-1', { n: Number(counter.data.n) + 1 });
    });
    expect(attempts).to.equal(2);
    expect((await store.collection('counters').get('c-1'))!.data).to.deep.equal({ n: 11 });
    expect(refusals).to.deep.equal([]);
    await failureOf(other.collection('counters').merge('none', { n: 1 }));
    expect(refusals).to.have.length(1);
  });

  it('a transaction reads what it may not see as not there', async () => {
    await service.setPolicy({ collections: { hidden: { create: 'true' } } });
    await service.request('PUT', '/v1/data/hidden/h-0', { n: 1 });
    const ada = service.client({ token: await makeToken({ sub: 'ada' }) });
    const hidden = ada.collection('hidden');
    await ada.transaction(async (transaction) => {
      expect(await transaction.get(hidden, 'h-1')).to.equal(undefined);
      transaction.create(hidden, { n: 1 }, 'h-1');
    });
    expect((await service.request('GET', '/v1/data/hidden/h-1')).json.data).to.deep.equal({ n: 1 });
  });

  it('an address that is none is refused with how to write one, and options may be left out', () => {
    for (const address of ['127.0.0.1:4680', 'localhost:4680', 'ws://localhost:4680']) {
      expect(() => connect(address), address).to.throw(TypeError, 'must start with http:// or https://');
    }
    connect(service.url).close();
  });

  it('a stream that is not read to its end is ended on the service, too', async () => {
    const writes = Array.from({ length: 5000 }, (_, n) => ({ put: `long/l-${n}`, data: { n, text: 'x'.repeat(500) } }));
    await service.request('POST', '/v1/commits', { writes });
    const reader = service.service.store.reader;
    for await (const piece of store.stream('/v1/data/long?limit=none', undefined, 'application/x-ndjson')) {
      expect(piece.length).to.be.above(0);
      break;
    }
    await until('the read is over', () => reader.load.running === 0, 5000);
  });
});
