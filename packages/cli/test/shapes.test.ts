import { expect } from 'chai';
import type { ShapeReport } from '@uproar/protocol';
import { CommandBench } from '../../../test/command-run.js';
import { TestService } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

describe('uproar shapes', () => {
  const bench = new CommandBench();
  const { run } = bench;
  let service: TestService;
  before(async () => {
    service = bench.service;
    const writes = Array.from({ length: 60 }, (_, n) => ({
      put: `balloons/bl-${n}`,
      data: { name: `Balloon ${n}`, altitude: n % 7 === 0 ? 'high' : n, ...(n === 9 ? { altitud: 3 } : {}) },
    }));
    await service.request('POST', '/v1/commits', { writes });
  });

  it('prints fields, rare names, and conflicting types', async () => {
    const { out, code } = await run(['shapes', 'balloons']);
    expect(code).to.equal(0);
    expect(out).to.match(/altitude +100 % +51 number, 9 text +1 … 59/);
    expect(out).to.include('rare   altitud: in 1 of 60 documents. Was altitude meant?');
    expect(out).to.include('mixed  altitude: 51 number, 9 text');
    expect(out).to.include('60 documents read');
    const report = JSON.parse(
      (await run(['shapes', 'balloons', '--where', 'altitude > 50', '--json'])).out,
    ) as ShapeReport;
    expect(report).to.include({ documents: 8, seq: 1 });
    expect((await run(['shapes', 'nothing'])).err).to.include('no documents in nothing');
    expect((await run(['shapes', 'balloons/bl-1'])).code).to.equal(2);
    expect((await run(['shapes', 'balloons', '--where', 'altitude >'])).err).to.include('^');
    expect((await run(['shapes', 'balloons', '--sample', '0'])).code).to.equal(2);
  });

  it('looks at a part that is spread over all of a large collection', async () => {
    const report = (await service.request('GET', '/v1/shapes/balloons?sample=20')).json as ShapeReport;
    expect(report.documents).to.equal(20);
  });

  it('reveals no documents and fields that are hidden from the caller', async () => {
    const guarded = await TestService.start({ tokens: TOKEN_SETTINGS });
    await guarded.setPolicy({ collections: { crews: { read: "crew = claim('crew')", conceal: ['phone'] } } });
    await guarded.request('PUT', '/v1/data/crews/a', { crew: 'c-1', phone: '1', size: 3 });
    await guarded.request('PUT', '/v1/data/crews/b', { crew: 'c-2', phone: '2', secret: true });
    const token = await makeToken({ sub: 'ada', crew: 'c-1' });
    const report = (await guarded.as(token)('GET', '/v1/shapes/crews')).json as ShapeReport;
    expect(report.documents).to.equal(1);
    expect(report.fields.map(({ name }) => name)).to.have.members(['crew', 'size']);
    expect((await guarded.as(token)('GET', '/v1/shapes/pads')).status).to.equal(403);
    await guarded.stop();
  });
});
