import { expect } from 'chai';
import type { JournalEvent } from '@uproar/protocol';
import { freePort } from '../../../test/etcd.js';
import { HookReceiver, type Received } from '../../../test/hook-receiver.js';
import { Random } from '../../../test/random.js';
import { ServedProcess } from '../../../test/served-process.js';
import { KEY, temporaryDirectory, until } from '../../../test/service.js';

/** How often the service is killed; more often in a long run. */
const KILLS = Number(process.env.HOOK_KILLS ?? 3);

/** How many documents are written between two kills, at least, however slow the machine is. */
const WRITES = 30;

describe('hooks through faults', () => {
  let undo: (() => unknown)[] = [];
  beforeEach(() => (undo = []));
  afterEach(async () => {
    for (const step of undo.toReversed()) await step();
  });

  it(`deliver every change in the order of its document to a receiver that fails, hangs and answers late (${KILLS} kills)`, async function () {
    this.timeout(60_000 + KILLS * 20_000);
    const random = new Random(Number(process.env.HOOK_SEED ?? 11));
    const { path, remove } = temporaryDirectory();
    undo.push(remove);
    const receiver = await HookReceiver.start();
    undo.push(() => receiver.stop());
    const accepted = new Set<Received>();
    let kind = true;
    receiver.answer = (received, response) => {
      const accept = () => {
        accepted.add(received);
        response.writeHead(200).end();
      };
      if (kind || random.chance(0.6)) return accept();
      if (random.chance(0.4)) return void response.writeHead(random.pick([400, 500, 302])).end();
      if (random.chance(0.3)) return void response.destroy();
      // It hangs for longer than the hook waits, or answers late and so out of order.
      if (random.chance(0.7)) setTimeout(accept, random.integer(20, 900));
    };
    const port = await freePort();
    const start = () => ServedProcess.start(path, port, ['--hook-networks', '127.0.0.1']);
    let service = await start();
    undo.push(() => service.stop('SIGKILL'));
    const call = async (method: string, to: string, body?: unknown): Promise<unknown> => {
      const headers = { authorization: `Bearer ${KEY}`, 'content-type': 'application/json', connection: 'close' };
      const response = await fetch(service.url + to, { method, headers, body: JSON.stringify(body) });
      return response.status === 204 ? undefined : response.json();
    };
    await call('POST', '/v1/hooks', { name: 'radio', collection: 'flights', url: receiver.url, timeoutSeconds: 1 });
    kind = false;
    for (let round = 0; round < KILLS; round++) {
      let [stopped, n] = [false, 0];
      const writing = (async () => {
        for (; !stopped; n++) {
          await call('PUT', `/v1/data/flights/d-${random.integer(0, 30)}`, { round, n }).catch(() => (stopped = true));
        }
      })();
      await new Promise((resolve) => setTimeout(resolve, random.integer(500, 2500)));
      await until('enough was written', () => n > WRITES);
      await service.stop('SIGKILL');
      await writing;
      service = await start();
    }
    kind = true;
    const journal: JournalEvent[] = [];
    for (let after = 0, more = true; more;) {
      const page = (await call('GET', `/v1/journal?after=${after}`)) as {
        events: JournalEvent[];
        seq: number;
        more: boolean;
      };
      journal.push(...page.events);
      [after, more] = [page.seq, page.more];
    }
    const key = ({ seq, subject }: { seq: number; subject?: string }) => `${seq} ${subject}`;
    const missing = () => {
      const got = new Set([...accepted].map(({ event }) => key(event)));
      return journal.filter((event) => !got.has(key(event)));
    };
    await until('everything is delivered', () => missing().length === 0, 60_000).catch(() => {
      throw new Error(`Never delivered: ${missing().map(key).join(', ')}`);
    });
    expect(journal.length).to.be.at.least(KILLS * WRITES);
    const taken = new Map<string, Set<number>>();
    for (const received of receiver.received) {
      const { subject, seq } = received.event;
      const before = journal.filter((event) => event.subject === subject && event.seq < seq);
      const known = taken.get(subject!) ?? new Set();
      taken.set(subject!, known);
      const skipped = before.find((event) => !known.has(event.seq));
      expect(skipped && key(skipped), `not taken before ${key(received.event)} was sent`).to.equal(undefined);
      if (accepted.has(received)) known.add(seq);
    }
    expect(await service.stop('SIGTERM')).to.equal(0);
  });
});
