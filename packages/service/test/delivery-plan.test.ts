import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { expect } from 'chai';
import fc from 'fast-check';
import { DeliveryPlan } from '../dist/hooks/delivery-plan.js';
import { ReachableAddresses } from '../dist/hooks/reachable-addresses.js';
import { Sender } from '../dist/hooks/send.js';
import type { CommitChange } from '../dist/store/index.js';
import { Random } from '../../../test/random.js';

const AUTHOR = { kind: 'key' as const, name: 'test' };

function changeOf(seq: number, id: string): CommitChange {
  const after = { id, version: seq, created: '', updated: '', data: {} } as never;
  return {
    seq,
    collection: 'a',
    id,
    before: undefined,
    after,
    author: AUTHOR,
    commitId: undefined,
    timeMs: seq,
    sizeBytes: 10,
  };
}

describe('the plan of deliveries', () => {
  it('delivers every change, each document in order, through failures and restarts (seeded)', () => {
    for (let seed = 0; seed < 60; seed++) {
      const random = new Random(seed);
      const journal = Array.from({ length: 200 }, (_, n) =>
        changeOf(n + 1, `d-${random.integer(0, random.pick([2, 9, 60]))}`),
      );
      const delivered: CommitChange[] = [];
      const options = { parallel: 4, maxOpen: 15, random: () => random.integer(0, 999) / 1000 };
      let plan = new DeliveryPlan({ seq: 0, open: [] }, options);
      let saved = plan.progress;
      let underWay: { document: NonNullable<ReturnType<DeliveryPlan['next']>>; change: CommitChange }[] = [];
      let nowMs = 0;
      for (let step = 0; delivered.length < 4000; step++) {
        nowMs += random.integer(0, 400);
        if (plan.takesMore && plan.seq < journal.length) {
          const upTo = Math.min(journal.length, plan.seq + random.integer(1, 10));
          plan.take(journal.slice(plan.seq, upTo), upTo);
        }
        for (let document = plan.next(nowMs); document; document = plan.next(nowMs)) {
          const { id, seq } = document;
          const left = journal.filter((change) => change.id === id && change.seq >= seq && change.seq <= plan.seq);
          const change = document.change ?? left[0];
          document.more = left.length > 1;
          if (change) underWay.push({ document, change });
          else plan.finished(document);
        }
        expect(plan.sending).to.be.at.most(4);
        expect(new Set(underWay.map(({ document }) => document.id)).size, 'one at a time of each').to.equal(
          underWay.length,
        );
        const [ended] = random.shuffle(underWay);
        underWay = underWay.filter((other) => other !== ended);
        if (ended && random.chance(0.3)) plan.failed(ended.document, nowMs, random.chance(0.1) ? 500 : undefined);
        else if (ended) {
          delivered.push(ended.change);
          plan.done(ended.document, ended.change.seq, nowMs);
          plan.succeeded(nowMs);
        }
        if (random.chance(0.1)) saved = plan.progress;
        if (random.chance(0.02)) {
          plan = new DeliveryPlan(JSON.parse(JSON.stringify(saved)) as typeof saved, options);
          underWay = [];
        }
        if (plan.seq === journal.length && plan.open.size === 0) break;
        nowMs = Math.max(nowMs, underWay.length === 0 ? (plan.dueMs() ?? 0) : 0);
      }
      expect(plan.open.size, `seed ${seed}`).to.equal(0);
      for (const id of new Set(journal.map((change) => change.id))) {
        const wanted = journal.filter((change) => change.id === id).map(({ seq }) => seq);
        const got = delivered.filter((change) => change.id === id).map(({ seq }) => seq);
        expect([...new Set(got)], `seed ${seed}, ${id}: each, and the first times in order`).to.deep.equal(wanted);
        // After a restart it goes back, and from there it is in order again.
        for (let n = 1; n < got.length; n++) {
          const next = wanted[wanted.indexOf(got[n - 1]!) + 1];
          expect(got[n]! <= (next ?? Infinity), `seed ${seed}, ${id}: none is left out`).to.equal(true);
        }
      }
    }
  });

  it('pauses longer after each failure, up to an hour, and goes on at once when the receiver is back', () => {
    const plan = new DeliveryPlan({ seq: 0, open: [] }, { parallel: 4, maxOpen: 10, random: () => 0.5 });
    plan.take([changeOf(1, 'a')], 1);
    let nowMs = 5;
    const pauses: number[] = [];
    for (let n = 0; n < 16; n++) {
      plan.failed(plan.next(nowMs)!, nowMs);
      const dueMs = plan.dueMs()!;
      expect(plan.next(dueMs - 1)).to.equal(undefined);
      pauses.push(dueMs - nowMs);
      nowMs = dueMs;
    }
    expect(pauses.slice(0, 4)).to.deep.equal([1000, 2000, 4000, 8000]);
    expect(pauses.at(-1)).to.equal(3_600_000);
    expect(plan.progress.open[0]![2], 'since the first failure').to.equal(5);
  });

  it('tries a receiver that is down with one document at a time, at least once a minute', () => {
    const plan = new DeliveryPlan({ seq: 0, open: [] }, { parallel: 8, maxOpen: 100, random: () => 0.5 });
    plan.take(
      Array.from({ length: 8 }, (_, n) => changeOf(n + 1, `d-${n}`)),
      8,
    );
    const sent = Array.from({ length: 8 }, () => plan.next(1)!);
    for (const document of sent) plan.failed(document, 1);
    let nowMs = 1;
    for (let n = 0; n < 20; n++) {
      const dueMs = plan.dueMs()!;
      expect(dueMs - nowMs).to.be.at.most(60_000);
      nowMs = dueMs;
      const probe = plan.next(nowMs)!;
      expect(plan.next(nowMs), 'one at a time').to.equal(undefined);
      expect(plan.dueMs(), 'its end is waited for').to.equal(undefined);
      plan.failed(probe, nowMs);
    }
    nowMs = plan.dueMs()!;
    const probe = plan.next(nowMs)!;
    plan.done(probe, probe.seq, nowMs);
    plan.succeeded(nowMs);
    expect(Array.from({ length: 8 }, () => plan.next(nowMs)).filter(Boolean), 'all others at once').to.have.length(7);
  });
});

describe('the addresses that hooks may reach', () => {
  const lookups: Record<string, string[]> = {
    'public.example': ['93.184.216.34', '2606:2800:220:1::1'],
    'inside.example': ['10.1.2.3'],
    'mixed.example': ['93.184.216.34', '127.0.0.1'],
    'mapped.example': ['::ffff:192.168.0.1'],
    'nat64.example': ['64:ff9b::7f00:1'],
    'metadata.example': ['169.254.169.254'],
    'shared.example': ['100.64.0.1'],
    'local6.example': ['fd00::1'],
  };
  const resolve = (name: string) =>
    Promise.resolve((lookups[name] ?? []).map((address) => ({ address, family: address.includes(':') ? 6 : 4 })));

  const refusal = async (work: () => Promise<unknown> | unknown): Promise<string | undefined> => {
    try {
      await work();
      return undefined;
    } catch (error) {
      return (error as { problem?: { type: string } }).problem?.type ?? (error as Error).message;
    }
  };

  it('are public ones, however a private one is written', async () => {
    const addresses = new ReachableAddresses([], resolve);
    const REFUSED = '/problems/address-refused';
    for (const url of [
      'https://127.0.0.1/',
      'https://2130706433/',
      'https://0x7f.1/',
      'https://0177.0.0.1/',
      'https://127.1/',
      'https://[::1]/',
      'https://[::ffff:10.0.0.1]/',
      'https://[fe80::1]/',
      'https://0.0.0.0/',
      'https://169.254.169.254/latest',
      'https://100.64.0.1/',
      'https://[64:ff9b::a00:1]/',
      'https://[2002:7f00:1::]/',
      'https://255.255.255.255/',
      'http://93.184.216.34/',
      'http://public.example/',
    ]) {
      expect(await refusal(() => addresses.check(url)), url).to.equal(REFUSED);
    }
    for (const name of Object.keys(lookups).filter((name) => name !== 'public.example')) {
      const url = addresses.check(`https://${name}/`);
      expect(await refusal(() => addresses.addressesOf(url)), name).to.equal(REFUSED);
    }
    expect(await addresses.addressesOf(addresses.check('https://public.example/'))).to.have.length(2);
    expect(await refusal(() => addresses.addressesOf(new URL('https://nowhere.example/')))).to.match(/has no address/);
  });

  it('are also those of named networks, by http as well', async () => {
    const addresses = new ReachableAddresses(['10.0.0.0/8', 'fd00::/8'], resolve);
    for (const name of ['inside.example', 'local6.example']) {
      expect(await addresses.addressesOf(addresses.check(`http://${name}/`)), name).to.have.length(1);
    }
    for (const url of ['http://public.example/', 'https://mixed.example/', 'http://metadata.example/']) {
      expect(await refusal(() => addresses.addressesOf(addresses.check(url))), url).to.equal(
        '/problems/address-refused',
      );
    }
    expect(() => new ReachableAddresses(['inside'])).to.throw(RangeError, '"inside" is no network');
  });

  it('are checked for the connection itself, so a name that changes leads nowhere else', async () => {
    let reached = 0;
    const server = createServer((_request, response) => response.end(String(++reached)));
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.address() as AddressInfo;
    const answers = ['127.0.0.2', '127.0.0.1', '127.0.0.1'];
    let asked = 0;
    const changing = () => Promise.resolve([{ address: answers[asked++]!, family: 4 }]);
    const sender = new Sender(new ReachableAddresses(['127.0.0.2'], changing));
    const post = (name: string) => sender.post(`http://${name}:${port}/`, { headers: {}, body: '{}' }, 2000);
    try {
      // Nothing listens at the address that was checked. If the name were resolved again, the server would be reached.
      expect((await post('one.example')).error).to.contain('ECONNREFUSED');
      expect((await post('two.example')).error).to.contain('127.0.0.1 is in none of them');
      expect([reached, asked]).to.deep.equal([0, 2]);
      const allowed = new Sender(
        new ReachableAddresses(['127.0.0.1'], () => Promise.resolve([{ address: '127.0.0.1', family: 4 }])),
      );
      expect((await allowed.post(`http://three.example:${port}/`, { headers: {}, body: '{}' }, 2000)).text).to.equal(
        '1',
      );
      allowed.close();
    } finally {
      sender.close();
      server.close();
    }
  });

  it('are no others, whatever number is written (random)', async () => {
    const addresses = new ReachableAddresses([], resolve);
    await fc.assert(
      fc.asyncProperty(fc.constantFrom(10, 127, 0), fc.nat(0xffffff), async (first, rest) => {
        const number = first * 2 ** 24 + rest;
        for (const host of [String(number), `0x${number.toString(16)}`, `${first}.${rest}`]) {
          expect(await refusal(() => addresses.check(`https://${host}/`))).to.equal('/problems/address-refused');
        }
      }),
    );
  });
});
