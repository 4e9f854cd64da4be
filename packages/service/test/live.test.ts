import { expect } from 'chai';
import jsonPatch from 'fast-json-patch';
import { once } from 'node:events';
import { connect as connectTcp } from 'node:net';
import { WebSocket } from 'ws';
import { LIVE_NOTIFICATIONS, LIVE_RESULTS, WatchChange, WatchResult } from '@uproar/protocol';
import { RawSocket } from '../../../test/raw-socket.js';
import { StreamReader } from '../../../test/event-stream.js';
import { Random } from '../../../test/random.js';
import { KEY, TestService, until } from '../../../test/service.js';

describe('a watch over an event stream', () => {
  let service: TestService;
  before(async () => (service = await TestService.start({ heartbeatMs: 100 })));
  after(() => service.stop());

  const fresh = async (collection: string) => {
    const { documents } = (await service.request('GET', `/v1/data/${collection}?limit=10000`)).json;
    return Object.fromEntries((documents as { id: string }[]).map((document) => [document.id, document]));
  };

  it('begins with the result and continues with changes that a JSON Patch package can apply', async () => {
    const random = new Random(31);
    const documents = Array.from({ length: 12 }, (_, n) => `d-${n}`);
    const write = async () => {
      const path = `/v1/data/model/${random.pick(documents)}`;
      if (random.chance(0.2)) await service.request('DELETE', path);
      else if (random.chance(0.5))
        await service.request('PATCH', path, { a: random.integer(0, 9), b: [random.integer(0, 3), 'x'] });
      else await service.request('PUT', path, { a: random.integer(0, 9), deep: { list: [1, random.integer(0, 5)] } });
    };
    for (let n = 0; n < 20; n++) await write();
    const watch = await StreamReader.open(`${service.url}/v1/data/model`);
    expect(watch.response.headers.get('content-type')).to.match(/^text\/event-stream/);
    for (let round = 0; round < 30; round++) {
      await Promise.all(Array.from({ length: random.integer(1, 6) }, write));
      const { seq } = (await service.request('GET', '/v1/data/model?limit=1')).json;
      const state = await fresh('model');
      await until(
        'the copy equals a fresh read',
        () => JSON.stringify(sorted(watch.state)) === JSON.stringify(sorted(state)),
      );
      expect(watch.seq).to.be.at.most(seq as number);
    }
    const seqs = watch.events.map(({ data }) => data.seq as number);
    expect(seqs).to.deep.equal([...new Set(seqs)].sort((a, b) => a - b));
    expect(watch.events[0]!.event).to.equal('result');
    expect(WatchResult.safeParse(watch.events[0]!.data).success).to.equal(true);
    for (const event of watch.events.slice(1)) expect(WatchChange.safeParse(event.data).success).to.equal(true);
    watch.close();
  });

  it('can be of a document that does not exist yet', async () => {
    const watch = await StreamReader.open(`${service.url}/v1/data/later/one`);
    await until('the result', () => watch.events.length === 1);
    expect(watch.events[0]!.data.documents).to.deep.equal([]);
    await service.request('PUT', '/v1/data/later/other', {});
    const created = await service.request('PUT', '/v1/data/later/one', { n: 1 });
    await until('the document', () => 'one' in watch.state);
    expect(watch.state.one).to.deep.equal(created.json);
    await service.request('DELETE', '/v1/data/later/one');
    await until('its end', () => !('one' in watch.state));
    expect(watch.events, 'other documents raise nothing').to.have.length(3);
    watch.close();
  });

  it('resumes with exactly the difference, and across a restart', async () => {
    for (let n = 0; n < 50; n++) await service.request('PUT', `/v1/data/resume/r-${n}`, { n, text: 'unchanged' });
    const first = await StreamReader.open(`${service.url}/v1/data/resume`);
    await until('the result', () => first.events.length === 1);
    first.close();
    await service.request('PATCH', '/v1/data/resume/r-7', { n: 700 });
    await service.request('PATCH', '/v1/data/resume/r-7', { n: 7000 });
    await service.request('DELETE', '/v1/data/resume/r-8');
    await service.request('PUT', '/v1/data/resume/brief', {});
    await service.request('DELETE', '/v1/data/resume/brief');
    await service.restart();
    const second = await StreamReader.open(`${service.url}/v1/data/resume`, first);
    await until('the difference', () => second.events.length === 1);
    const { event, data } = second.events[0]!;
    expect(event).to.equal('change');
    expect((data.patch as { path: string }[]).map(({ path }) => path)).to.have.members([
      '/r-7/version',
      '/r-7/updated',
      '/r-7/data/n',
      '/r-8',
    ]);
    expect(sorted(second.state)).to.deep.equal(sorted(await fresh('resume')));
    second.close();
  });

  it('resumes when nothing has changed, also with a limit and after a restart', async () => {
    for (let n = 0; n < 9; n++) await service.request('PUT', `/v1/data/quiet/q-${n}`, { n });
    for (const parameters of ['?order=-n&limit=3', '?limit=3', '']) {
      const first = await StreamReader.open(`${service.url}/v1/data/quiet${parameters}`);
      await until('the first state', () => first.events.length > 0);
      first.close();
      await service.restart();
      const second = await StreamReader.open(`${service.url}/v1/data/quiet${parameters}`, first);
      await until('the empty change', () => second.events.length > 0);
      expect(second.events[0]).to.deep.include({ event: 'change' });
      await service.request('PATCH', '/v1/data/quiet/q-0', { n: 100 });
      await service.request('PATCH', '/v1/data/quiet/q-1', { n: 99 });
      const { json } = await service.request('GET', `/v1/data/quiet${parameters}`);
      await until('the changes after it', () => second.seq === json.seq);
      expect(Object.keys(second.state).sort()).to.deep.equal(
        (json.documents as { id: string }[]).map(({ id }) => id).sort(),
      );
      second.close();
      await service.request('PATCH', '/v1/data/quiet/q-0', { n: 0 });
      await service.request('PATCH', '/v1/data/quiet/q-1', { n: 1 });
    }
  });

  it('carries the order of a query with a limit, also after a resume, and to all watchers as one', async () => {
    for (let n = 0; n < 9; n++) await service.request('PUT', `/v1/data/top/t-${n}`, { n });
    const target = '/v1/data/top?order=-n&limit=3&ordered=true';
    const url = `${service.url}${target}`;
    const first = await StreamReader.open(url);
    await until('the result', () => first.ids.length === 3);
    expect(first.ids).to.deep.equal(['t-8', 't-7', 't-6']);
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    await socket.call('watch', { query: { from: 'top', order: '-n', limit: 3, ordered: true } });
    await service.request('PATCH', '/v1/data/top/t-6', { n: 60 });
    await until('the change', () => first.events.length === 2);
    expect(first.ids).to.deep.equal(['t-6', 't-8', 't-7']);
    expect((first.state['t-6'] as { data: unknown }).data).to.deep.equal({ n: 60 });
    const { patch } = first.events[1]!.data as { patch: { path: string }[] };
    expect(patch.map(({ path }) => path)).to.deep.equal(['/documents/t-6', '/ids']);
    await until('the same change', () => socket.heard.some(({ method }) => method === 'change'));
    expect(socket.heard.find(({ method }) => method === 'change').params.patch).to.deep.equal(patch);
    first.close();
    await service.request('DELETE', '/v1/data/top/t-8');
    await service.request('PATCH', '/v1/data/top/t-1', { n: 59 });
    const second = await StreamReader.open(url, first);
    await until('the difference', () => second.events.length === 1);
    expect(second.events[0]!.event).to.equal('change');
    expect(second.ids).to.deep.equal(['t-6', 't-1', 't-7']);
    expect(Object.keys(second.state).sort()).to.deep.equal(['t-1', 't-6', 't-7']);
    second.close();
    socket.socket.close();
  });

  it('refuses an order without a limit, of a summary, and of another value than true and false', async () => {
    const refused = async (parameters: string) => {
      const { status, json } = await service.request('GET', `/v1/data/top?${parameters}`, undefined, {
        accept: 'text/event-stream',
      });
      return [status, json.pointer ?? json.parameter];
    };
    expect(await refused('ordered=true&limit=none')).to.deep.equal([400, '/ordered']);
    expect(await refused('ordered=true&summary=count()')).to.deep.equal([400, '/ordered']);
    expect(await refused('ordered=yes')).to.deep.equal([400, 'ordered']);
    const plain = await service.request('GET', '/v1/data/top?ordered=true&limit=2');
    expect(plain.json.documents).to.have.length(2);
  });

  it('is reset when the resume point is of something else, or of the future', async () => {
    await service.request('PUT', '/v1/data/reset/a', {});
    for (const lastEventId of ['nonsense', '1.aaaaaaaaaa', 'zzzzz.aaaaaaaaaa']) {
      const watch = await StreamReader.open(`${service.url}/v1/data/reset`, { lastEventId, state: {} } as StreamReader);
      await until('an event', () => watch.events.length === 1);
      expect(watch.events[0]!.event).to.equal('reset');
      expect(Object.keys(watch.state)).to.deep.equal(['a']);
      watch.close();
    }
    const other = await StreamReader.open(`${service.url}/v1/data/reset`);
    await until('the result', () => other.lastEventId !== undefined);
    const elsewhere = await StreamReader.open(`${service.url}/v1/data/other`, other);
    await until('an event', () => elsewhere.events.length === 1);
    expect(elsewhere.events[0]!.event).to.equal('reset');
    other.close();
    elsewhere.close();
  });

  it('stays awake, and its resume point moves on while nothing happens to it', async () => {
    const watch = await StreamReader.open(`${service.url}/v1/data/quiet`);
    await until('the result', () => watch.events.length === 1);
    const point = watch.lastEventId;
    await service.request('PUT', '/v1/data/elsewhere/a', {});
    await until('two heartbeats', () => watch.comments >= 2);
    expect(watch.lastEventId).not.to.equal(point);
    expect(watch.events).to.have.length(1);
    watch.close();
  });

  it('ends with a problem when the service stops', async () => {
    const own = await TestService.start();
    const watch = await StreamReader.open(`${own.url}/v1/data/any`);
    await until('the result', () => watch.events.length === 1);
    await own.stop();
    await until('the end', () => watch.ended);
    expect(watch.events.at(-1)).to.deep.include({ event: 'end' });
    expect(watch.events.at(-1)!.data.type).to.equal('/problems/stopping');
  });

  it('of the collections shows their counts', async () => {
    const watch = await StreamReader.open(`${service.url}/v1/collections`);
    await until('the result', () => watch.events.length === 1);
    await service.request('PUT', '/v1/data/tallied/a', {});
    await service.request('PUT', '/v1/data/tallied/b', {});
    await until(
      'the counts',
      () => (watch.state.tallied as { data?: { documents?: number } } | undefined)?.data?.documents === 2,
    );
    watch.close();
  });

  it('by a reader that stops reading costs bounded memory, and is made whole by one merged change', async () => {
    const own = await TestService.start({ maxUnreadBytes: 64 * 1024 });
    const big = 'x'.repeat(20_000);
    for (let n = 0; n < 20; n++) await own.request('PUT', `/v1/data/slow/s-${n}`, { n, big });
    const socket = await RawSocket.open(own, { authorization: `Bearer ${KEY}` });
    const { result } = await socket.call('watch', { query: { from: 'slow' } });
    socket.socket.pause();
    const sentBefore = own.service.store.log.seq;
    for (let n = 0; n < 600; n++) await own.request('PUT', `/v1/data/slow/s-${n % 20}`, { n, big: big + n });
    const heardWhilePaused = socket.heard.length;
    socket.socket.resume();
    const last = own.service.store.log.seq;
    const changes = () => socket.heard.filter(({ method }) => method === 'change');
    await until('the last change', () => changes().at(-1)?.params.seq === last);
    expect(last - sentBefore).to.equal(600);
    expect(changes().length, 'changes were merged').to.be.below(550);
    expect(heardWhilePaused).to.be.below(20);
    let state = Object.fromEntries((result.documents as { id: string }[]).map((document) => [document.id, document]));
    for (const { params } of changes()) state = jsonPatch.applyPatch(state, params.patch as never).newDocument;
    const { documents } = (await own.request('GET', '/v1/data/slow')).json;
    expect(sorted(state).map(([, document]) => document)).to.deep.equal(documents);
    socket.socket.terminate();
    await own.stop();
  });
});

describe('a WebSocket', () => {
  let service: TestService;
  before(async () => (service = await TestService.start({ heartbeatMs: 300 })));
  after(() => service.stop());

  it('takes hello, watch, get, commit and unwatch, and answers in the declared form', async () => {
    const socket = await RawSocket.open(service);
    const hello = await socket.call('hello', { token: KEY });
    expect(LIVE_RESULTS.hello.safeParse(hello.result).success).to.equal(true);
    const watch = await socket.call('watch', { query: { from: 'balloons' } });
    expect(LIVE_RESULTS.watch.safeParse(watch.result).success).to.equal(true);
    const commit = await socket.call('commit', {
      writes: [
        { put: 'balloons/a', data: { n: 1 } },
        { create: 'balloons', data: {} },
        { merge: 'balloons/a', data: { m: 2 } },
      ],
    });
    expect(LIVE_RESULTS.commit.safeParse(commit.result).success).to.equal(true);
    expect(await socket.call('get', { doc: 'balloons/a' })).to.deep.nested.include({ 'result.data': { n: 1, m: 2 } });
    const change = socket.heard.find(({ method }) => method === 'change');
    expect(LIVE_NOTIFICATIONS.change.safeParse(change.params).success).to.equal(true);
    expect((await socket.call('unwatch', { watch: watch.result.watch })).result).to.deep.equal({});
    await socket.call('commit', { writes: [{ delete: 'balloons/a' }] });
    expect(socket.heard.filter(({ method }) => method === 'change')).to.have.length(1);
    await until('a sign of life', () => socket.heard.some(({ method }) => method === 'alive'));
    socket.socket.close();
  });

  it('sends the seq of a commit with an id before its changes, only to its sender and only with open watches', async () => {
    const sender = await RawSocket.open(service);
    const other = await RawSocket.open(service);
    for (const socket of [sender, other]) await socket.call('hello', { token: KEY });
    const put = (id: string | undefined, n: number) =>
      sender.call('commit', { ...(id ? { id } : {}), writes: [{ put: 'accepted/a', data: { n } }] });
    await put('quiet', 0);
    for (const socket of [sender, other]) await socket.call('watch', { query: { from: 'accepted' } });
    const { result } = await put('noted', 1);
    await put(undefined, 2);
    await put('noted', 1);
    await until('both saw the changes', () =>
      [sender, other].every(({ heard }) => heard.filter(({ method }) => method === 'change').length === 2),
    );
    const sent = sender.heard
      .filter(({ method }) => method === 'accepted' || method === 'change')
      .map(({ method, params }) => [method, params.seq]);
    expect(sent).to.deep.equal([
      ['accepted', result.seq],
      ['change', result.seq],
      ['change', result.seq + 1],
    ]);
    const notice = sender.heard.find(({ method }) => method === 'accepted')!;
    expect(LIVE_NOTIFICATIONS.accepted.parse(notice.params)).to.deep.equal({ id: 'noted', seq: result.seq });
    expect(other.heard.some(({ method }) => method === 'accepted')).to.equal(false);
    for (const { socket } of [sender, other]) socket.close();
  });

  it('sends the changes of a commit before its acknowledgement', async () => {
    const socket = await RawSocket.open(service);
    socket.send('hello', { token: KEY });
    await socket.call('watch', { query: { from: 'own' } });
    const ids = Array.from({ length: 100 }, (_, n) =>
      socket.send('commit', { writes: [{ put: 'own/x', data: { n } }] }),
    );
    await until('all answers', () => ids.every((id) => socket.heard.some((message) => message.id === id)));
    let seen = 0;
    for (const message of socket.heard) {
      if (message.method === 'change') seen = message.params.seq;
      else if (ids.includes(message.id)) expect(seen).to.be.at.least(message.result.seq as number);
    }
    socket.socket.close();
  });

  it('begins with the result, also if reading takes long, and then sends the changes since', async () => {
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    for (let part = 0; part < 8; part++) {
      await socket.call('commit', {
        writes: Array.from({ length: 500 }, (_, n) => ({ put: `large/l-${part * 500 + n}`, data: { n } })),
      });
    }
    for (const limit of ['none', 3000] as const) {
      const { length } = socket.heard;
      const watch = socket.send('watch', { query: { from: 'large', order: '-n', limit } });
      const commits = Array.from({ length: 5 }, (_, n) =>
        socket.send('commit', { writes: [{ put: 'large/l-0', data: { n: 1000 + n } }] }),
      );
      await until('the result and all answers', () =>
        [watch, ...commits].every((id) => socket.heard.some((message) => message.id === id)),
      );
      const heard = () => socket.heard.slice(length).filter(({ method }) => method !== 'alive');
      await until('the last value', () => {
        let documents: Record<string, { data: { n: number } }> = {};
        for (const message of heard()) {
          const { documents: all, patch, watch: name } = message.result ?? message.params ?? {};
          if (Array.isArray(all) && name)
            documents = Object.fromEntries(
              (all as { id: string; data: { n: number } }[]).map((document) => [document.id, document]),
            );
          else if (patch) documents = jsonPatch.applyPatch(documents, patch as never).newDocument;
        }
        return documents['l-0']?.data.n === 1004 && Object.keys(documents).length === (limit === 'none' ? 4000 : limit);
      });
      const first = heard().findIndex((message) => message.id === watch);
      const early = heard().findIndex(({ method }) => method === 'change');
      expect(early === -1 || early > first, 'nothing of the watch comes before its answer').to.equal(true);
      await socket.call('unwatch', { watch: heard()[first].result.watch });
    }
    socket.socket.close();
  });

  it('sends the same bytes under the same id to all watchers of the same target', async () => {
    const sockets = await Promise.all([RawSocket.open(service), RawSocket.open(service), RawSocket.open(service)]);
    const texts: string[][] = sockets.map(() => []);
    sockets.forEach(({ socket }, index) => socket.on('message', (text) => texts[index]!.push(String(text))));
    for (const socket of sockets) {
      await socket.call('hello', { token: KEY });
      await socket.call('watch', { query: { from: 'same' } });
    }
    await service.request('PUT', '/v1/data/same/a', { n: 1 });
    const change = (index: number) => texts[index]!.find((text) => text.includes('"change"'));
    await until('the change', () => sockets.every((_, index) => change(index)));
    expect(change(1)).to.equal(change(0));
    expect(change(2)).to.equal(change(0));
    for (const { socket } of sockets) socket.close();
  });

  it('keeps a commit of several writes whole: one event, or none at all', async () => {
    const socket = await RawSocket.open(service, { authorization: `Bearer ${KEY}` });
    await socket.call('watch', { query: { from: 'whole' } });
    await socket.call('commit', {
      writes: [
        { put: 'whole/a', data: {} },
        { put: 'whole/b', data: {} },
      ],
    });
    const refused = await socket.call('commit', {
      writes: [
        { put: 'whole/c', data: {} },
        { merge: 'whole/a', data: { x: 1 } },
        { put: 'whole/b', data: {}, ifVersion: 0 },
      ],
    });
    expect(refused.error).to.deep.nested.include({
      code: 409,
      'data.type': '/problems/version-mismatch',
      'data.write': 2,
      'data.document': 'whole/b',
    });
    const changes = socket.heard.filter(({ method }) => method === 'change');
    expect(changes).to.have.length(1);
    expect(changes[0].params.patch).to.have.length(2);
    expect((await service.request('GET', '/v1/data/whole')).json.documents).to.have.length(2);
    socket.socket.close();
  });

  it('answers every malformed call with the error, and continues', async () => {
    const socket = await RawSocket.open(service);
    const refusal = async (text: string | Buffer) => {
      const answers = () => socket.heard.filter(({ method }) => method === undefined);
      const { length } = answers();
      socket.socket.send(text);
      await until('an answer', () => answers().length > length);
      const { error } = answers().at(-1);
      return `${error.code} ${String(error.data.type).replace('/problems/', '')}`;
    };
    const call = (method: string, params?: unknown) => JSON.stringify({ jsonrpc: '2.0', id: 1, method, params });
    expect(await refusal('{')).to.equal('-32700 bad-json');
    expect(await refusal(Buffer.from([0xff, 0xfe]))).to.equal('-32700 bad-json');
    expect(await refusal('[]')).to.equal('-32600 bad-request');
    expect(await refusal('{"jsonrpc":"1.0","id":1,"method":"get"}')).to.equal('-32600 bad-request');
    expect(await refusal(call('get', { doc: 'a/b' }))).to.equal('401 key-missing');
    expect(await refusal(call('hello', { token: 'wrong' }))).to.equal('401 key-unknown');
    expect(await refusal(call('toString', {}))).to.equal('-32601 bad-request');
    await socket.call('hello', { token: KEY });
    expect(await refusal(call('watch', { query: { from: 'No' } }))).to.equal('-32602 bad-request');
    expect(await refusal(call('watch', { query: { from: 'a', were: 'x' } }))).to.equal('-32602 bad-request');
    expect(await refusal(call('watch', {}))).to.equal('-32602 bad-request');
    expect(await refusal(call('unwatch', { watch: 'w999' }))).to.equal('404 no-such-watch');
    expect(await refusal(call('get', { doc: 'balloons/none' }))).to.equal('404 no-such-document');
    expect(await refusal(call('commit', { writes: [] }))).to.equal('-32602 bad-request');
    expect(await refusal(call('commit', { writes: [{ put: 'a/b', data: [] }] }))).to.equal('422 bad-document');
    expect(await refusal(call('commit', { writes: [{ put: 'a/b', data: {}, ifVersion: -1 }] }))).to.equal(
      '-32602 bad-request',
    );
    expect((await socket.call('get', { doc: 'balloons/none' })).error.code).to.equal(404);
    socket.socket.close();
  });

  it('is closed when it leaves pings unanswered', async () => {
    const { hostname, port } = new URL(service.url);
    const socket = connectTcp(Number(port), hostname);
    const lines = ['GET /v1/live HTTP/1.1', `Host: ${hostname}`, 'Upgrade: websocket', 'Connection: Upgrade'];
    lines.push('Sec-WebSocket-Version: 13', `Sec-WebSocket-Key: ${'A'.repeat(22)}==`);
    socket.write(`${lines.join('\r\n')}\r\n\r\n`);
    const received: Buffer[] = [];
    socket.on('data', (bytes: Buffer) => received.push(bytes));
    await once(socket, 'close');
    // The beginning of a ping without content (RFC 6455, section 5.5.2). Several frames may arrive together.
    const pings = Buffer.concat(received)
      .toString('latin1')
      .match(/\x89\0/g);
    expect(pings, 'one that is late does no harm').to.have.length(2);
  });

  it('is refused at another path, or with a wrong key', async () => {
    for (const [path, headers, status] of [
      ['/v1/other', {}, 404],
      ['/v1/live', { authorization: 'Bearer wrong' }, 401],
    ] as const) {
      const socket = new WebSocket(service.url.replace('http', 'ws') + path, { headers });
      const [error] = (await once(socket, 'error')) as [Error];
      expect(error.message).to.include(String(status));
    }
  });
});

function sorted(state: Record<string, unknown>): [string, unknown][] {
  return Object.entries(state).sort(([a], [b]) => (a < b ? -1 : 1));
}
