import { expect } from 'chai';
import { TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const POLICY = {
  anonymous: true,
  collections: {
    flights: { read: "crew = claim('crew') OR claim('role') = 'director'", update: "crew = claim('crew')" },
    board: { read: true },
  },
};

for (const transport of ['socket', 'http'] as const) {
  describe(`the client with tokens, over ${transport}`, () => {
    let service: TestService;
    before(async () => {
      service = await TestService.start({ tokens: { ...TOKEN_SETTINGS, leewaySeconds: 0 }, heartbeatMs: 400 });
      await service.request('PUT', '/v1/data/flights/f-1', { crew: 'c-1' });
      await service.request('PUT', '/v1/data/flights/f-2', { crew: 'c-2' });
      await service.request('PUT', '/v1/data/board/b-1', { text: 'hello' });
      await service.setPolicy(POLICY);
    });
    after(() => service.stop());
    const ids = (watch: { current: { documents: readonly { id: string }[] } }) =>
      watch.current.documents.map(({ id }) => id).join();

    it('requests a new token in time, so that watches continue', async () => {
      let asked = 0;
      const store = service.client({
        transport,
        token: () => makeToken({ sub: 'ada', crew: 'c-1', jti: String(asked++) }, 3),
      });
      const watch = store.collection('flights').watch();
      const states = new Set<string>();
      watch.subscribe(({ state }) => states.add(state));
      await until('it is there', () => watch.current.state === 'live');
      await new Promise((resolve) => setTimeout(resolve, 7000));
      await service.request('PATCH', '/v1/data/flights/f-1', { altitude: asked });
      await until('a change comes', () => watch.current.byId.get('f-1')?.data.altitude !== undefined);
      expect(asked).to.be.at.least(3);
      if (transport === 'socket') expect([...states], 'never interrupted').to.deep.equal(['loading', 'live']);
      await service.setPolicy(POLICY);
    });

    it('shows what another token may see once it is renewed', async () => {
      let claims: Record<string, unknown> = { sub: 'ada', crew: 'c-1' };
      const store = service.client({ transport, token: () => makeToken(claims) });
      const watch = store.collection('flights').watch();
      await until('it shows one', () => ids(watch) === 'f-1');
      claims = { sub: 'dora', role: 'director' };
      store.renew();
      await until('it shows all', () => ids(watch) === 'f-1,f-2');
      claims = { sub: 'bo', crew: 'c-2' };
      store.renew();
      await until('it shows the other', () => ids(watch) === 'f-2');
    });

    it('reports why the policy ended a watch, and continues the others', async () => {
      const store = service.client({ transport, token: () => makeToken({ sub: 'ada', crew: 'c-1' }) });
      const [flights, board] = [store.collection('flights').watch(), store.collection('board').watch()];
      await until('both are there', () => ids(flights) === 'f-1' && ids(board) === 'b-1');
      await service.setPolicy({ ...POLICY, collections: { board: { read: true } } });
      await until('it has ended', () => flights.current.state === 'failed');
      expect(flights.current.error?.type).to.equal('/problems/not-allowed');
      await service.request('PATCH', '/v1/data/board/b-1', { text: 'still here' });
      await until('the other goes on', () => board.current.byId.get('b-1')?.data.text === 'still here');
      await service.setPolicy(POLICY);
      store.renew();
      await until('it is there again', () => ids(flights) === 'f-1' && flights.current.state === 'live');
    });

    it('takes part without any token where the policy lets it, and undoes a write that is refused', async () => {
      const store = service.client({ transport, token: undefined });
      const board = store.collection('board').watch();
      await until('it is there', () => ids(board) === 'b-1');
      const refused = await store
        .collection('board')
        .merge('b-1', { text: 'mine' })
        .catch((error: unknown) => error);
      expect(refused).to.have.nested.property('problem.rule', 'update');
      await until('it is undone', () => board.current.byId.get('b-1')?.data.text !== 'mine');
    });
  });
}
