import { expect } from 'chai';
import { HookReceiver } from '../../../test/hook-receiver.js';
import { CommandBench } from '../../../test/command-run.js';
import { type TestService, until } from '../../../test/service.js';

describe('uproar hook', () => {
  const bench = new CommandBench({ hooks: { networks: ['127.0.0.1'] } });
  let service: TestService;
  let receiver: HookReceiver;
  before(async () => {
    service = bench.service;
    receiver = await HookReceiver.start();
  });
  after(() => receiver.stop());
  const run = (args: string[]) => bench.run(['hook', ...args]);

  it('creates, tests, changes, pauses, resumes and removes hooks, and shows their deliveries', async () => {
    expect((await run([])).out).to.include('There are no hooks.');
    const options = ['--collection', 'flights', '--to', receiver.url, '--where', 'n > 1', '--kinds', 'created,updated'];
    const created = await run(['create', 'radio', ...options]);
    expect(created.out).to.match(/created radio\. Its secret, shown only now:\n\n {2}whsec_/);
    const test = await run(['test', 'radio']);
    expect([test.code, test.out]).to.deep.equal([0, test.out.match(/^taken after \d+ ms: 204\n$/)?.[0]]);
    await service.request('PUT', '/v1/data/flights/dawn', { n: 5 });
    await until('it is delivered', () => receiver.received.length === 2);
    const row = /radio +flights created, updated where n > 1 +http:\S+ +– +– +delivering/;
    await until('it is listed as done', async () => row.test((await run(['list'])).out));
    const deliveries = (await run(['deliveries', 'radio', '--json'])).out.trim().split('\n');
    const { number } = JSON.parse(deliveries[0]!) as { number: number };
    const shown = (await run(['deliveries', 'radio', String(number)])).out;
    expect(shown).to.include('flights/dawn').and.include('webhook-signature: v1,').and.include('"n":5');
    expect((await run(['send', 'radio', String(number)])).code).to.equal(0);
    receiver.answer = (_received, response) => response.writeHead(500).end('broken');
    const refused = await run(['send', 'radio', String(number)]);
    expect(refused.code).to.equal(1);
    expect(refused.out).to.match(/^not taken after \d+ ms: 500\nbroken\n$/);
    expect((await run(['deliveries', 'radio', '--failed'])).out).to.match(/flights\/dawn +1 +2 +\d+ ms +500/);
    expect((await run(['change', 'radio', '--where', '', '--parallel', '2'])).out).to.include(
      'flights created, updated\n',
    );
    expect((await run(['pause', 'radio', '--reason', 'repairs'])).out).to.equal('paused radio\n');
    expect((await run(['show', 'radio'])).out).to.match(/state +paused \d+ \w+ ago: repairs/);
    expect((await run(['resume', 'radio', '--after', '0'])).out).to.equal('resumed radio after seq 0\n');
    expect((await run(['rotate', 'radio'])).out).to.match(/^rotated radio\./);
    expect((await run(['remove', 'radio'])).out).to.equal('removed radio\n');
  });

  it('refuses what cannot be, with advice', async () => {
    expect((await run(['show', 'nothing'])).code).to.equal(5);
    expect(await run(['create', 'x'])).to.deep.include({ code: 2 });
    const private_ = await run(['create', 'x', '--collection', 'a', '--to', 'http://10.0.0.1/']);
    expect(private_.err).to.include('hook-networks');
    const claims = await run(['create', 'x', '--collection', 'a', '--to', receiver.url, '--claims', '{role']);
    expect([claims.code, claims.err]).to.deep.equal([2, claims.err]);
    expect(claims.err).to.include('The claims are not JSON');
    expect((await run(['resume', 'x', '--after', 'soon'])).code).to.equal(2);
  });
});
