import { expect } from 'chai';
import { mock } from 'node:test';
import { HostileLink } from '../../../test/hostile-link.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { connect } from '../dist/node.js';
import { SocketLink } from '../dist/transport/socket-link.js';
import type { SocketLike } from '../dist/transport/socket.js';

describe('a client on a slow link', () => {
  it('gets a large view whole, and does not ask again and again', async () => {
    const service = await TestService.start();
    const link = await HostileLink.start(service.url);
    const text = 'x'.repeat(100_000);
    for (let n = 0; n < 100; n++) await service.request('PUT', `/v1/data/films/f-${n}`, { text });
    link.bytesPerSecond = 3_000_000;
    const store = connect(link.url, { token: KEY, callTimeoutMs: 1000, backoffMs: () => 30 });
    const watch = store.collection('films').watch();
    const states = new Set<string>();
    store.subscribe(({ name }) => states.add(name));
    const unsubscribe = watch.subscribe(() => undefined);
    await until('the view', () => watch.current.state === 'live' && watch.current.documents.length === 100, 15_000);
    expect([...states]).to.not.include('offline');
    const { sentBytes } = (await service.request('GET', '/v1/connections')).json.connections[0];
    expect(sentBytes).to.be.within(10_000_000, 11_000_000);
    unsubscribe();
    store.close();
    await link.stop();
    await service.stop();
  });

  /** A link whose socket is in the hands of the test, and whose clock is too. */
  const openLink = async () => {
    const sent: { id: number }[] = [];
    const socket: SocketLike = {
      send: (text: string) => void sent.push(JSON.parse(text) as never),
      close: () => undefined,
      onopen: null,
      onmessage: null,
      onerror: null,
      onclose: null,
    } as never;
    mock.timers.enable({ apis: ['setTimeout', 'Date'] });
    const link = new SocketLink(
      { url: () => 'ws://tower', openSocket: () => socket },
      { stateChanged: () => undefined, notified: () => undefined },
    );
    const hear = (message: object) => socket.onmessage!({ data: JSON.stringify(message) });
    socket.onopen!();
    for (let n = 0; n < 20; n++) await Promise.resolve();
    hear({ id: sent[0]!.id, result: { identity: {} } });
    for (let n = 0; n < 20; n++) await Promise.resolve();
    expect(link.state.name).to.equal('online');
    return { link, hear };
  };

  afterEach(() => mock.timers.reset());

  it('is patient after the service has announced a large message, and only then', async () => {
    const { link, hear } = await openLink();
    mock.timers.tick(37_000);
    expect(link.state.name).to.equal('online');
    hear({ method: 'alive', params: { seq: 1, nextBytes: 16_000_000 } });
    mock.timers.tick(500_000);
    expect(link.state.name).to.equal('online');
    hear({ method: 'alive', params: { seq: 2 } });
    mock.timers.tick(38_000);
    expect(link.state.name).to.equal('offline');
  });

  it('gives up when the large message does not come', async () => {
    const { link, hear } = await openLink();
    let failure: Error | undefined;
    link.request(
      'query',
      { from: 'films' } as never,
      () => undefined,
      (error) => (failure = error),
    );
    hear({ method: 'alive', params: { seq: 1, nextBytes: 16_000_000 } });
    mock.timers.tick(499_000);
    expect(failure, 'the call waits for as long as the message may take').to.equal(undefined);
    mock.timers.tick(2000);
    expect(failure).to.be.an('error').with.property('message').that.includes('in time');
    mock.timers.tick(40_000);
    expect(link.state.name).to.equal('offline');
  });
});
