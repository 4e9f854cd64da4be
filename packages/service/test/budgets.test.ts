import { expect } from 'chai';
import { connect as connectTcp } from 'node:net';
import { StreamReader } from '../../../test/event-stream.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const TEXT = 'x'.repeat(100_000);

describe('budgets', () => {
  let service: TestService;
  before(async () => {
    service = await TestService.start({
      tokens: TOKEN_SETTINGS,
      budgets: {
        resultBytes: 500_000,
        watchBytes: 1_000_000,
        identityBytes: 4_000_000,
        processBytes: 16_000_000,
        watchWork: 20_000,
        queryWork: 20_000_000,
        helloBytes: 1000,
        idleMs: 700,
        unreadMs: 1500,
        waitMs: 1500,
      },
      commitLimits: { sizeBytes: 300_000, resultBytes: 2_000_000 },
    });
    for (let n = 0; n < 20; n++) await service.request('PUT', `/v1/data/films/f-${n}`, { n, text: TEXT });
  });
  after(() => service.stop());

  it('page a result that takes too many bytes, with a cursor to go on, in any order', async () => {
    for (const order of ['', '&order=-n']) {
      const ids: string[] = [];
      let after = '';
      for (let pages = 0; pages < 20; pages++) {
        const { json, text } = await service.request('GET', `/v1/data/films?limit=1000${order}${after}`);
        expect(text.length).to.be.below(600_000);
        ids.push(...json.documents.map(({ id }: { id: string }) => id));
        if (!json.more) break;
        after = `&after=${json.next}`;
      }
      expect(ids, order).to.have.length(20);
      expect(new Set(ids).size).to.equal(20);
    }
  });

  it('page or refuse includes by their bytes, and refuse a watch whose state is too large', async () => {
    const writes = Array.from({ length: 50 }, (_, n) => ({ put: `reels/r-${n}`, data: { film: 'f-0', n } }));
    await service.request('POST', '/v1/commits', { writes });
    const query = { from: 'reels', include: 'film = films via film', limit: 50 };
    const { json } = await service.request('POST', '/v1/query', query);
    expect(json.more).to.equal(true);
    expect(json.documents).to.have.length(4);
    const single = { from: 'films', include: 'reels by n', limit: 1 };
    expect((await service.request('POST', '/v1/query', single)).json.type).to.equal('/problems/index-missing');
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    for (const form of [query, { from: 'films', limit: 'none' }, { from: 'films', limit: 100 }]) {
      const { error } = await socket.call('watch', { query: form });
      expect(error?.data, JSON.stringify(form)).to.include({ type: '/problems/query-too-costly', budget: 'bytes' });
    }
    expect(
      (await socket.call('watch', { query: { from: 'films', limit: 'none', fields: 'n' } })).result.documents,
    ).to.have.length(20);
    socket.socket.close();
  });

  it('page the journal by bytes', async () => {
    let after = 0;
    let events = 0;
    for (let pages = 0; pages < 30; pages++) {
      const { json } = await service.request('GET', `/v1/journal?after=${after}&limit=10000`);
      events += json.events.length;
      after = json.seq;
      if (!json.more) break;
    }
    expect(events).to.be.above(69);
  });

  it('refuse a commit whose documents take too many bytes in all, and one message that is too large, under its id', async () => {
    const writes = Array.from({ length: 30 }, (_, n) => ({ merge: 'films/f-0', data: { n } }));
    const costly = await service.request('POST', '/v1/commits', { writes });
    expect(costly.json.type).to.equal('/problems/commit-too-costly');
    expect(costly.json.currentVersion, 'the version that is in the store').to.equal(1);
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    const large = await socket.call('commit', { writes: [{ put: 'films/x', data: { text: 'x'.repeat(400_000) } }] });
    expect(large.error.data.type).to.equal('/problems/too-large');
    socket.socket.send(
      `{"jsonrpc":"2.0","id":77,"method":"commit","params":{"writes":[{"put":"a/b","data":{"n":9007199254740993}}]}}`,
    );
    await until('an answer under the id', () => socket.heard.some(({ id }) => id === 77));
    expect(socket.heard.find(({ id }) => id === 77).error.data.type).to.equal('/problems/bad-json');
    const just = await socket.call('commit', {
      writes: [{ put: 'films/f-1', data: { n: 1, text: 'x'.repeat(250_000) } }],
    });
    expect(just.result, JSON.stringify(just.error)).to.have.property('seq');
    await service.request('PUT', '/v1/data/films/f-1', { n: 1, text: TEXT });
    socket.socket.close();
  });

  it('end a query whose conditions take too much work, and a watch whose changes do, while others go on', async () => {
    const where = Array(30).fill("part(text, 'x', -1) = 'y'").join(' OR ');
    const query = await service.request('POST', '/v1/query', { from: 'films', where });
    expect(query.json).to.include({ type: '/problems/query-too-costly', budget: 'work' });
    const [costly, cheap] = await Promise.all([
      RawSocket.open(service, { authorization: `Bearer ${await makeToken({ sub: 'ada' })}` }),
      RawSocket.open(service, { authorization: `Bearer ${KEY}` }),
    ]);
    await service.setPolicy({ default: { read: 'true' } });
    const found = await costly.call('watch', { query: { from: 'reels', where: "text LIKE '%y%'" } });
    const other = await cheap.call('watch', { query: { from: 'reels', where: 'n > 1000' } });
    expect([found.error, other.error]).to.deep.equal([undefined, undefined]);
    for (let n = 0; n < 8; n++)
      await service.request('PUT', `/v1/data/reels/t-${n}`, { text: TEXT.slice(0, 90_000), n: 2000 + n });
    await until('the costly watch has ended', () => costly.heard.some(({ method }) => method === 'end'));
    expect(costly.heard.find(({ method }) => method === 'end').params.problem).to.include({
      type: '/problems/query-too-costly',
      budget: 'live-work',
    });
    await until('the other has all changes', () => cheap.heard.filter(({ method }) => method === 'change').length >= 8);
    expect(cheap.heard.some(({ method }) => method === 'end')).to.equal(false);
    for (const { socket } of [costly, cheap]) socket.close();
  });

  it('give long reads their turn, one holder a share, and take them back from readers that stall', async () => {
    const headers = { accept: 'application/x-ndjson', authorization: `Bearer ${KEY}` };
    const stalled = await Promise.all(
      Array.from({ length: 8 }, () => StreamReader.pausedRequest(service.url, '/v1/data/films?limit=none', headers)),
    );
    const token = service.as(await makeToken({ sub: 'bea' }));
    const started = Date.now();
    const answer = await token('GET', '/v1/data/films?limit=none&fields=n', undefined, {
      accept: 'application/x-ndjson',
    });
    expect(answer.text.trim().split('\n')).to.have.length(20);
    expect(Date.now() - started).to.be.below(5000);
    for (const end of stalled) end();
    const { text } = await service.request('GET', '/v1/data/films?limit=none', undefined, { accept: 'text/csv' });
    expect(text.length).to.be.above(2_000_000);
  });

  it('give everything back after CSV exports that were broken off', async () => {
    for (let n = 0; n < 12; n++) {
      const abort = new AbortController();
      const response = await fetch(`${service.url}/v1/data/films?limit=none`, {
        headers: { accept: 'text/csv', authorization: `Bearer ${KEY}` },
        signal: abort.signal,
      });
      await response.body!.getReader().read();
      abort.abort();
    }
    await until('no read is left', () => service.service.store.reader.load.running === 0, 5000);
    expect((await service.request('GET', '/v1/data/films?order=-n&fields=n')).json.documents).to.have.length(20);
  });

  it('close connections that never ask, that say too much before hello, and that do not read', async () => {
    const { hostname: host, port } = new URL(service.url);
    const idle = connectTcp({ host, port: Number(port) });
    const closed = new Promise((resolve) => idle.once('close', resolve));
    idle.resume();
    await closed;

    const talker = await RawSocket.open(service);
    const gone = new Promise((resolve) => talker.socket.once('close', resolve));
    talker.socket.send(Buffer.alloc(200_000, 0x20), { fin: false });
    await gone;

    // Linux remembers how much an address took before. From an address of its own, nothing else counts.
    const deaf = connectTcp({ host, port: Number(port), localAddress: '127.213.7.9' });
    const closedToo = new Promise((resolve) => deaf.once('close', resolve));
    deaf.on('error', () => undefined);
    deaf.pause();
    for (let n = 0; n < 200; n++) {
      const lines = [
        'GET /v1/data/films?limit=none HTTP/1.1',
        'Host: x',
        'Accept: application/x-ndjson',
        `Authorization: Bearer ${KEY}`,
        '',
        '',
      ];
      deaf.write(lines.join('\r\n'));
    }
    const ended = async () => (await service.request('GET', '/v1/metrics/samples')).json.budgets.ended;
    await until('it is closed on the other side', async () => (await ended()).unread > 0, 30_000);
    deaf.resume();
    await closedToo;
    expect(await ended())
      .to.have.property('idle')
      .above(0);
    const metrics = (await service.request('GET', '/metrics')).text;
    expect(metrics)
      .to.match(/uproar_ended_total\{reason="unread"\} [1-9]/)
      .and.include('uproar_held_bytes');
  });

  it('reveal nothing hidden to callers under the policy by the cost of an include', async () => {
    await service.setPolicy({ collections: { mine: { read: 'true', create: 'true' }, secret: {} } });
    const ada = service.as(await makeToken({ sub: 'ada' }));
    for (let part = 0; part < 2; part++) {
      const ids = Array.from({ length: 6000 }, (_, n) => `s-${part * 6000 + n}`);
      await service.request('PUT', `/v1/data/mine/m-${part}`, { refs: ids });
    }
    const query = { from: 'mine', include: 'found = secret via refs' };
    const before = await ada('POST', '/v1/query', query);
    await service.request('POST', '/v1/commits', {
      writes: Array.from({ length: 3000 }, (_, n) => ({ put: `secret/s-${n}`, data: { n } })),
    });
    const after = await ada('POST', '/v1/query', query);
    expect(before.status).to.equal(200);
    expect(after.json.documents).to.deep.equal(before.json.documents);
  });
});
