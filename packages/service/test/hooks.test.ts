import type { ServerResponse } from 'node:http';
import { expect } from 'chai';
import { Webhook } from 'standardwebhooks';
import type { Delivery, DeliveryDetails, DeliveryResult, HookInfo, NewHook } from '@uproar/protocol';
import type { ServiceOptions } from '@uproar/service';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd } from '../../../test/etcd.js';
import { HookReceiver, type Received } from '../../../test/hook-receiver.js';
import { TestService, until } from '../../../test/service.js';

const LOOPBACK = { hooks: { networks: ['127.0.0.0/8'] } };

async function withReceiver(
  work: (service: TestService, receiver: HookReceiver) => Promise<void>,
  options: Partial<ServiceOptions> = LOOPBACK,
): Promise<void> {
  const receiver = await HookReceiver.start();
  const service = await TestService.start(options);
  try {
    await work(service, receiver);
  } finally {
    await service.stop();
    receiver.stop();
  }
}

async function create(service: TestService, form: object): Promise<NewHook> {
  const { status, json } = await service.request('POST', '/v1/hooks', {
    name: 'radio',
    collection: 'flights',
    ...form,
  });
  expect(status, JSON.stringify(json)).to.equal(201);
  return json as NewHook;
}

const put = (service: TestService, id: string, data: object) => service.request('PUT', `/v1/data/flights/${id}`, data);

describe('hooks', () => {
  it('post each change as a CloudEvent that is signed by Standard Webhooks', () =>
    withReceiver(async (service, receiver) => {
      await put(service, 'before', { n: 0 });
      const hook = await create(service, { url: receiver.url });
      expect(hook.secret).to.match(/^whsec_/);
      await put(service, 'dawn', { n: 1 });
      await put(service, 'dawn', { n: 2 });
      await service.request('DELETE', '/v1/data/flights/dawn');
      await until('three changes are delivered', () => receiver.received.length === 3);
      const [first] = receiver.received;
      expect(first!.headers['content-type']).to.equal('application/cloudevents+json; charset=utf-8');
      expect(first!.event).to.include({ specversion: '1.0', subject: 'flights/dawn', identity: 'key:environment' });
      expect(first!.event.data).to.have.nested.property('after.data.n', 1);
      expect(receiver.received.map(({ event }) => event.type.split('.').at(-1))).to.deep.equal([
        'created',
        'updated',
        'deleted',
      ]);
      for (const { headers, body, event } of receiver.received) {
        expect(headers['webhook-id']).to.equal(event.id);
        expect(new Webhook(hook.secret).verify(body, headers)).to.deep.equal(event);
      }
      const { json } = await service.request('GET', '/v1/hooks');
      const [info] = (json as { hooks: HookInfo[] }).hooks;
      expect(info).to.include({ name: 'radio', waiting: 0, commitsBehind: 0 });
      expect(JSON.stringify(info), 'the secret is not shown again').not.to.contain('whsec_');
    }));

  it('post binary CloudEvents, with names that a header cannot carry', () =>
    withReceiver(async (service, receiver) => {
      const hook = await create(service, { url: receiver.url, format: 'binary' });
      const key = await service.request('POST', '/v1/keys', { name: 'Törn 1', scope: 'write' });
      await service.as(key.json.key as string)('PUT', '/v1/data/flights/dawn', { n: 1 });
      await until('it is delivered', () => receiver.received.length === 1);
      const [{ headers, body, event }] = receiver.received as [Received];
      expect(headers).to.include({
        'content-type': 'application/json',
        'ce-specversion': '1.0',
        'ce-subject': 'flights/dawn',
        'ce-identity': 'key:T%C3%B6rn%201',
      });
      expect(event.data).to.have.nested.property('after.data.n', 1);
      expect(() => new Webhook(hook.secret).verify(body, headers)).not.to.throw();
      expect(() => new Webhook(hook.secret).verify(body.replace('1', '2'), headers)).to.throw();
    }));

  it('deliver only what the kinds, the condition and the fields say', () =>
    withReceiver(async (service, receiver) => {
      await create(service, {
        url: receiver.url,
        where: "status = 'aloft'",
        kinds: ['created', 'updated'],
        fields: 'status',
      });
      await put(service, 'a', { status: 'inflating', height: 0 });
      await put(service, 'a', { status: 'aloft', height: 10 });
      await put(service, 'a', { status: 'landed', height: 0 });
      await put(service, 'a', { status: 'packed' });
      await put(service, 'b', { status: 'aloft', height: 20 });
      await service.request('DELETE', '/v1/data/flights/b');
      await until('three are delivered', () => receiver.received.length >= 3);
      const seen = receiver.received.map(({ event }) => {
        const { before, after } = event.data as { before: { data: object } | null; after: { data: object } };
        return [event.subject, before?.data ?? null, after.data];
      });
      expect(seen).to.deep.equal([
        ['flights/a', { status: 'inflating' }, { status: 'aloft' }],
        ['flights/a', { status: 'aloft' }, { status: 'landed' }],
        ['flights/b', null, { status: 'aloft' }],
      ]);
    }));

  it('deliver no more than the policy lets the claims of the hook read', () =>
    withReceiver(async (service, receiver) => {
      await service.setPolicy({
        collections: { flights: { read: "site = claim('site')", conceal: [{ field: 'fuel' }] } },
      });
      await create(service, { url: receiver.url, claims: { site: 'north' } });
      await put(service, 'a', { site: 'south', fuel: 3 });
      await put(service, 'a', { site: 'north', fuel: 4 });
      await put(service, 'b', { site: 'north', fuel: 5 });
      await put(service, 'b', { site: 'south', fuel: 6 });
      await until('three are delivered', () => receiver.received.length === 3);
      const seen = receiver.received.map(({ event }) => [event.subject, event.type.split('.').at(-1)]);
      expect(seen).to.have.deep.members([
        ['flights/a', 'created'],
        ['flights/b', 'created'],
        ['flights/b', 'deleted'],
      ]);
      const text = receiver.received.map(({ body }) => body).join();
      expect(text).not.to.contain('fuel');
      expect(text).not.to.contain('south');
    }));

  it('sign with two secrets while one is replaced', () =>
    withReceiver(async (service, receiver) => {
      const hook = await create(service, { url: receiver.url });
      const rotate = { keepOldSeconds: 60 };
      const { secret } = (await service.request('POST', '/v1/hooks/radio/rotate', rotate)).json as NewHook;
      await put(service, 'a', { n: 1 });
      await until('it is delivered', () => receiver.received.length === 1);
      const [{ body, headers }] = receiver.received as [Received];
      for (const known of [hook.secret, secret]) expect(() => new Webhook(known).verify(body, headers)).not.to.throw();
      await service.request('POST', '/v1/hooks/radio/rotate', { keepOldSeconds: 0 });
      await put(service, 'a', { n: 2 });
      await until('it is delivered', () => receiver.received.length === 2);
      const { body: next, headers: signed } = receiver.received[1]!;
      expect(() => new Webhook(secret).verify(next, signed)).to.throw();
    }));

  it('hold back only the document that fails, keep its order, and deliver it in the end', () =>
    withReceiver(async (service, receiver) => {
      let fails = 2;
      receiver.answer = ({ event }, response) =>
        event.subject === 'flights/bad' && fails-- > 0
          ? response.writeHead(500).end('no')
          : response.writeHead(200).end();
      await create(service, { url: receiver.url });
      await put(service, 'bad', { n: 1 });
      await put(service, 'good', { n: 1 });
      await put(service, 'bad', { n: 2 });
      await put(service, 'good', { n: 2 });
      await until('all are delivered', () => receiver.received.length === 6, 15_000);
      const of = (id: string) =>
        receiver.received.filter(({ event }) => event.subject === `flights/${id}`).map(({ event }) => event);
      expect(of('good').map(({ seq }) => seq)).to.deep.equal([2, 4]);
      expect(of('bad').map(({ seq }) => seq)).to.deep.equal([1, 1, 1, 3]);
      expect(new Set(of('bad').map(({ id }) => id)).size, 'the same id each time').to.equal(2);
      const path = '/v1/hooks/radio/deliveries';
      const { deliveries } = (await service.request('GET', `${path}?failed=true`)).json as { deliveries: Delivery[] };
      expect(deliveries.map(({ status, attempt, answer }) => [status, attempt, answer])).to.deep.equal([
        [500, 2, 'no'],
        [500, 1, 'no'],
      ]);
      const details = (await service.request('GET', `${path}/${deliveries[1]!.number}`)).json as DeliveryDetails;
      expect(details.request!.body).to.equal(receiver.received.find(({ event }) => event.seq === 1)!.body);
      const again = (await service.request('POST', `${path}/${deliveries[1]!.number}/send`)).json as DeliveryResult;
      expect(again).to.include({ delivered: true, event: deliveries[1]!.event });
    }));

  it('leave a receiver alone for as long as it asks', () =>
    withReceiver(async (service, receiver) => {
      let first = true;
      receiver.answer = (_received, response) => {
        if (!first) return void response.writeHead(200).end();
        first = false;
        response.writeHead(503, { 'retry-after': '2' }).end();
      };
      await create(service, { url: receiver.url });
      const startedMs = Date.now();
      await put(service, 'a', { n: 1 });
      await until('it is tried', () => receiver.received.length === 1);
      await put(service, 'b', { n: 1 });
      await until('both are delivered', () => receiver.received.length === 3, 10_000);
      expect(Date.now() - startedMs).to.be.at.least(1900);
    }));

  it('can be paused, resumed, moved to an earlier seq, tested and removed', () =>
    withReceiver(async (service, receiver) => {
      await put(service, 'a', { n: 1 });
      await create(service, { url: receiver.url, after: 0 });
      await until('the change before it was made is delivered', () => receiver.received.length === 1);
      const paused = (await service.request('POST', '/v1/hooks/radio/pause', { reason: 'repairs' })).json as HookInfo;
      expect(paused.paused).to.include({ reason: 'repairs' });
      await put(service, 'b', { n: 1 });
      const test = (await service.request('POST', '/v1/hooks/radio/test', {})).json as DeliveryResult;
      expect(test).to.include({ delivered: true, status: 204, type: 'uproar.hook.test' });
      expect(receiver.received, 'a test also while it is paused').to.have.length(2);
      await service.request('POST', '/v1/hooks/radio/resume', {});
      await until('it goes on', () => receiver.received.length === 3);
      await service.request('POST', '/v1/hooks/radio/resume', { after: 0 });
      await until('all are delivered again', () => receiver.received.length === 5);
      expect(receiver.subjects.slice(3).sort()).to.deep.equal(['1 flights/a', '2 flights/b']);
      const changed = await service.request('PATCH', '/v1/hooks/radio', { where: 'n > 5', fields: 'n' });
      expect(changed.json).to.include({ where: 'n > 5', fields: 'n', collection: 'flights' });
      const without = await service.request('PATCH', '/v1/hooks/radio', { fields: null });
      expect(without.json).not.to.have.property('fields');
      expect((await service.request('DELETE', '/v1/hooks/radio')).status).to.equal(204);
      expect((await service.request('GET', '/v1/hooks/radio')).json.type).to.equal('/problems/no-such-hook');
    }));

  it('begin with the next change when they get another collection', () =>
    withReceiver(async (service, receiver) => {
      await service.request('PUT', '/v1/data/crews/c-1', { n: 0 });
      receiver.answer = (_received, response) => response.writeHead(500).end();
      await create(service, { url: receiver.url });
      await put(service, 'c-1', { n: 1 });
      await until('a change waits', () => receiver.received.length === 1);
      receiver.answer = (_received, response) => response.writeHead(200).end();
      // The document that waits has the same id as one of the other collection.
      const { json } = await service.request('PATCH', '/v1/hooks/radio', { collection: 'crews' });
      expect(json).to.include({ collection: 'crews', seq: 2, waiting: 0 });
      await service.request('PUT', '/v1/data/crews/c-1', { n: 3 });
      await until('the next change is delivered', () => receiver.received.length >= 2);
      expect(receiver.subjects.slice(1)).to.deep.equal(['3 crews/c-1']);
    }));

  it('are paused by a receiver that has gone, and after failing for too long', () =>
    withReceiver(
      async (service, receiver) => {
        receiver.answer = (_received, response) => response.writeHead(410).end();
        await create(service, { url: receiver.url });
        await put(service, 'a', { n: 1 });
        const info = async (name: string) => (await service.request('GET', `/v1/hooks/${name}`)).json as HookInfo;
        await until('it is paused', async () => (await info('radio')).paused !== undefined);
        expect((await info('radio')).paused!.reason).to.equal('The receiver answered 410 Gone.');
        receiver.answer = (_received, response) => response.writeHead(500).end();
        await create(service, { name: 'other', url: receiver.url });
        await put(service, 'a', { n: 2 });
        await until('it is paused', async () => (await info('other')).paused !== undefined, 15_000);
        expect((await info('other')).paused!.reason).to.match(/^Deliveries of flights\/a have failed since 20/);
        const audit = await service.request('GET', '/v1/audit?event=hook-paused');
        expect(audit.json.entries).to.have.length(2);
        const { text } = await service.request('GET', '/metrics');
        expect(text).to.contain('uproar_hook_failing{hook="other"} 1');
        // What was not delivered is, once it may go on.
        receiver.answer = (_received, response) => response.writeHead(200).end();
        const before = receiver.received.length;
        await service.request('POST', '/v1/hooks/other/resume', {});
        await until('it is delivered', () => receiver.received.length === before + 1);
      },
      { hooks: { networks: ['127.0.0.0/8'], giveUpMs: 1500 } },
    ));

  it('go on after a restart, with nothing missing and with what they had not delivered', () =>
    withReceiver(async (service, receiver) => {
      const refused = new Set(['flights/d-3', 'flights/d-7']);
      receiver.answer = ({ event }, response) => response.writeHead(refused.has(event.subject!) ? 500 : 200).end();
      await create(service, { url: receiver.url });
      for (let n = 0; n < 10; n++) await put(service, `d-${n}`, { n });
      await until('the others are delivered', () => new Set(receiver.subjects).size === 10);
      await service.restart();
      receiver.received.length = 0;
      refused.clear();
      await put(service, 'd-3', { n: 33 });
      await until('the rest is delivered', () => receiver.received.length >= 3, 15_000);
      expect(receiver.subjects.sort()).to.deep.equal(['11 flights/d-3', '4 flights/d-3', '8 flights/d-7']);
    }));

  it('wait for answers that are due when the service stops, so that nothing is delivered again', () =>
    withReceiver(async (service, receiver) => {
      receiver.answer = (_received, response) => void setTimeout(() => response.writeHead(204).end(), 300);
      await create(service, { url: receiver.url });
      await put(service, 'a', { n: 1 });
      await until('it is sent', () => receiver.received.length === 1);
      await service.restart();
      await put(service, 'a', { n: 2 });
      await until('the next change is delivered', () => receiver.subjects.includes('2 flights/a'), 15_000);
      expect(receiver.subjects).to.deep.equal(['1 flights/a', '2 flights/a']);
    }));

  it('tell the receiver what it missed when the journal was cut, and hold it back for a while before', () =>
    withReceiver(async (service, receiver) => {
      const { store } = service.service;
      await create(service, { url: receiver.url });
      await service.request('POST', '/v1/hooks/radio/pause', {});
      for (let n = 0; n < 10; n++) await put(service, 'a', { n });
      store.keepJournal({ maxAgeMs: 0 });
      const { JournalRetention } = await import('../dist/store/retention.js');
      const cut = async (holdMs: number) => {
        const retention = new JournalRetention(store.reads, store.log, store.journal, { maxAgeMs: 0, holdMs });
        while (await retention.step(Date.now() + 10));
      };
      await cut(60_000);
      expect(store.journal.bounds().first, 'what the hook needs is held').to.equal(1);
      await cut(0);
      expect(store.journal.bounds().first).to.equal(10);
      await service.request('POST', '/v1/hooks/radio/resume', {});
      await until('it is told, and gets the rest', () => receiver.received.length === 2);
      const missed = receiver.received.find(({ event }) => event.type === 'uproar.hook.missed')!;
      expect(missed.event.data).to.deep.equal({ after: 0, upTo: 9 });
      expect(receiver.subjects).to.include('10 flights/a');
      await until('that is done', async () => {
        const { json } = await service.request('GET', '/v1/hooks/radio');
        return (json as HookInfo).missed === undefined;
      });
    }));

  it('do not follow redirects, and connect to no address that is not allowed any more', () =>
    withReceiver(async (service, receiver) => {
      receiver.answer = (_received, response) => response.writeHead(302, { location: receiver.url }).end();
      await create(service, { url: receiver.url });
      const test = async () => (await service.request('POST', '/v1/hooks/radio/test', {})).json as DeliveryResult;
      expect(await test()).to.include({ delivered: false, status: 302 });
      expect(receiver.received).to.have.length(1);
      // A name that leads into a network which hooks may not reach, although it could be created.
      await service.request('PATCH', '/v1/hooks/radio', {
        url: receiver.url.replace('http://127.0.0.1', 'https://localhost'),
      });
      await service.restart();
      expect((await test()).delivered).to.equal(false);
      expect(receiver.received).to.have.length(1);
    }));

  it('refuse what they cannot deliver, with advice', () =>
    withReceiver(async (service, receiver) => {
      const refused = async (form: object) => {
        const { json } = await service.request('POST', '/v1/hooks', {
          name: 'x',
          collection: 'flights',
          url: receiver.url,
          ...form,
        });
        return json.type as string;
      };
      expect(await refused({ url: 'ftp://receiver.example/' })).to.equal('/problems/address-refused');
      expect(await refused({ url: 'https://a:b@receiver.example/' })).to.equal('/problems/address-refused');
      expect(await refused({ url: 'http://10.0.0.1/' })).to.equal('/problems/address-refused');
      expect(await refused({ where: 'status ==' })).to.equal('/problems/bad-query');
      expect(await refused({ kinds: ['moved'] })).to.equal('/problems/bad-request');
      expect(await refused({ after: 99 })).to.equal('/problems/seq-ahead');
      expect(await refused({ parallel: 1000 })).to.equal('/problems/bad-request');
      await create(service, { url: receiver.url });
      expect(await refused({ name: 'radio' })).to.equal('/problems/hook-exists');
      const reader = await service.request('POST', '/v1/keys', { name: 'reader', scope: 'read' });
      const { status } = await service.as(reader.json.key as string)('GET', '/v1/hooks');
      expect(status, 'only administrators').to.equal(403);
    }));

  it('do not let a slow receiver hold up commits or other hooks', () =>
    withReceiver(async (service, receiver) => {
      const open: ServerResponse[] = [];
      receiver.answer = (_received, response) => void open.push(response);
      const other = await HookReceiver.start();
      try {
        await create(service, { url: receiver.url, timeoutSeconds: 60 });
        await create(service, { name: 'fast', url: other.url });
        for (let part = 0; part < 6; part++) {
          const writes = Array.from({ length: 500 }, (_, n) => ({ put: `flights/d-${part}-${n}`, data: { n } }));
          await service.request('POST', '/v1/commits', { writes });
        }
        await until('the other gets everything', () => other.received.length === 3000, 20_000);
        expect(receiver.received, 'only so many at a time').to.have.length(8);
        const { json } = await service.request('GET', '/v1/hooks/radio');
        expect((json as HookInfo).waiting).to.equal(1000);
      } finally {
        for (const response of open) response.destroy();
        other.stop();
      }
    }));
});

describe('hooks in a cluster', () => {
  it('are delivered by one node, and by another when that one is lost', async () => {
    const etcd = await Etcd.start(1);
    const receiver = await HookReceiver.start();
    const nodes = [await startNode(etcd, 'hooks/', LOOPBACK), await startNode(etcd, 'hooks/', LOOPBACK)];
    const holder = async () => {
      const { node, leases } = (await nodes[0]!.request('GET', '/v1/cluster')).json;
      const held = leases.find(({ work }: { work: string }) => work === 'hooks');
      return held === undefined ? undefined : held.node === node ? 0 : 1;
    };
    await until('one is in charge', async () => (await holder()) !== undefined);
    const [first, other] = [nodes[(await holder())!]!, nodes[1 - (await holder())!]!];
    await create(other, { url: receiver.url });
    await put(other, 'a', { n: 1 });
    await until('it is delivered', () => receiver.received.length === 1);
    const list = async (node: TestService) => (await node.request('GET', '/v1/hooks/radio/deliveries')).json.deliveries;
    expect(await list(other), 'any node lists the deliveries').to.deep.equal(await list(first));
    const { number } = (await list(other))[0] as Delivery;
    expect((await other.request('GET', `/v1/hooks/radio/deliveries/${number}`)).json.request.body).to.contain(
      'flights/a',
    );
    const forwarded = { 'uproar-forwarded-by': 'x' };
    const own = await other.request('GET', '/v1/hooks/radio/deliveries', undefined, forwarded);
    expect(own.json.deliveries, 'a forwarded request is not forwarded again').to.deep.equal([]);
    await first.service.close();
    await put(other, 'b', { n: 1 });
    await until('the other delivers', () => receiver.subjects.includes('2 flights/b'), 30_000);
    expect(receiver.received, 'the first had written how far it was').to.have.length(2);
    for (const node of nodes) await node.stop();
    receiver.stop();
    await etcd.stop();
  });
});
