import { expect } from 'chai';
import { CommandBench } from '../../../test/command-run.js';
import { until } from '../../../test/service.js';

describe('uproar usage', () => {
  const bench = new CommandBench({ usage: { intervalMs: 100 } });

  it('lists what identities and collections have used, for people and as JSON', async () => {
    const { service } = bench;
    for (let n = 0; n < 5; n++) await service.request('PUT', `/v1/data/balloons/b-${n}`, { n });
    await service.request('GET', '/v1/data/balloons');
    await until('it is on record', async () => (await bench.run(['usage', '--collection', 'balloons'])).out !== '');
    await new Promise((resolve) => setTimeout(resolve, 300));
    const people = await bench.run(['usage', '--by', 'collection', '--collection', 'balloons']);
    expect(people.code, people.err).to.equal(0);
    expect(people.out.split('\n')[0]!.split(/\s+/)).to.deep.equal(
      'collection requests reads examined writes deliveries sent documents stored'.split(' '),
    );
    expect(people.out.split('\n')[1]!).to.match(/^balloons +6 +5 +5 +5 +0 +\S+ \S+ +5 +\S+ B$/);
    expect(people.err).to.match(/5 reads, 5 writes, 0 deliveries, \S+ \S+ sent; 5 documents with \S+ B stored\n$/);
    const lines = await bench.run(['usage', '--by', 'day,identity', '--identity', 'key:environment', '--json']);
    const [row] = lines.out.split('\n').map((line) => JSON.parse(line || 'null') as { day: string; writes: number });
    expect(row).to.include({ day: new Date().toISOString().slice(0, 10), writes: 5 });
    const wrong = await bench.run(['usage', '--by', 'weather']);
    expect(wrong.code).to.equal(2);
    expect(wrong.err).to.include('"by" is a list of day, identity, collection');
  });
});
