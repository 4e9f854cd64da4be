import { expect } from 'chai';
import type { Commit } from '@uproar/core';
import type { LogRecord } from '../dist/state/records.js';
import { ReplicatedLog } from '../dist/log/replicated-log.js';
import { StateMachine } from '../dist/state/state-machine.js';
import { Random } from '../../../test/random.js';
import { until } from '../../../test/service.js';
import { FaultyLog, NO_FAULTS, type Faults } from './faulty-log.js';
import { RandomRecords } from './random-records.js';
import { Replay } from './replay.js';

const AUTHOR = { kind: 'key' as const, name: 'test' };
const LIMITS = { commits: 10_000, sizeBytes: 1e9 };
const TIMES = { confirmMs: 400, retryMs: 3 };
const FAULTS: Faults = {
  lostAppend: 0.05,
  lostAnswer: 0.05,
  lateAppend: 0.05,
  doubledAppend: 0.05,
  cut: 0.02,
  stall: 0.02,
};

/** A node without a service: a store in memory, and its log. */
class Node {
  readonly transport;
  log!: ReplicatedLog;
  starts = 0;

  constructor(
    readonly name: string,
    readonly service: FaultyLog,
    public replay: Replay,
    private readonly entryBytes: number,
  ) {
    this.transport = service.connect();
    this.start();
  }

  start(): void {
    this.log = new ReplicatedLog({
      database: this.replay.database,
      state: new StateMachine(this.replay.database),
      durability: {
        written: () => undefined,
        sync: (done) => void setImmediate(() => done(null)),
        syncNow: () => undefined,
        publish: () => undefined,
        release: () => undefined,
        resume: () => undefined,
      },
      health: {
        damage: undefined,
        note: () => undefined,
        noteFailedSync: () => {
          throw new Error('no sync fails here');
        },
        noteWritten: () => undefined,
      },
      maxWaiting: LIMITS,
      transport: this.transport,
      producer: `${this.name}-${++this.starts}`,
      entryBytes: this.entryBytes,
      times: TIMES,
    });
    this.log.start();
  }

  restart(): void {
    this.log.close();
    this.start();
  }

  /** Begins with a copy of the store of another node. */
  replaceBy(other: Node): void {
    this.log.close();
    this.replay = new Replay(other.replay.database);
    this.start();
  }

  counter(id: string): number {
    const data = this.replay.database
      .prepare<[string], string>('SELECT data FROM documents WHERE id = ?')
      .pluck()
      .get(id)!;
    return (JSON.parse(data) as { n: number }).n;
  }

  get place(): number {
    return this.replay.database.prepare<[], number>('SELECT place FROM log').pluck().get()!;
  }
}

/** A commit that adds one to a counter. Without an id, nothing but the log keeps it from being applied twice. */
function count(id?: string): Commit {
  return {
    ...(id === undefined ? {} : { id, idSpace: 'test', digest: id }),
    // Later than all others, so that its outcome is not forgotten.
    timeMs: 1_800_000_000_000,
    author: AUTHOR,
    writes: [
      {
        kind: 'adjust',
        collection: 'counters',
        id: id === undefined ? 'without-id' : 'with-id',
        by: { '/n': { add: 1 } },
      },
    ],
  };
}

const SEEDS = Number(process.env.REPLICA_SEEDS ?? 4);
const STEPS = Number(process.env.REPLICA_STEPS ?? 400);

describe('a log of several nodes', () => {
  for (let seed = 1; seed <= SEEDS; seed++) {
    it(`leads to the same state on all nodes, and applies every commit once, through faults (seed ${seed})`, async function () {
      // A long run has more steps.
      this.timeout(60_000 + 100 * STEPS);
      const random = new Random(seed);
      const service = new FaultyLog(random);
      const nodes = ['a', 'b', 'c'].map((name) => new Node(name, service, new Replay(), seed % 2 ? 300 : 100_000));
      const records = new RandomRecords(random);
      await nodes[0]!.log.propose(records.next() as never);
      await nodes[0]!.log.append({
        timeMs: 1,
        author: AUTHOR,
        writes: ['with-id', 'without-id'].map((id) => ({ kind: 'put', collection: 'counters', id, data: { n: 0 } })),
      });
      service.faults = FAULTS;

      const acknowledged = new Set<string>();
      const unknown = new Set<string>();
      let lastError: Error | undefined;
      const withoutId = { sent: 0, acknowledged: 0 };
      const running: Promise<unknown>[] = [];
      const send = (node: Node, id: string) =>
        node.log.append(count(id)).then(
          (outcome) => {
            expect(outcome).to.satisfy((found: object) => 'applied' in found || 'repeated' in found);
            acknowledged.add(id);
            unknown.delete(id);
          },
          (error: Error) => {
            lastError = error;
            if (!acknowledged.has(id)) unknown.add(id);
          },
        );
      for (let step = 0; step < STEPS; step++) {
        const node = random.pick(nodes);
        const what = random.next();
        if (what < 0.3) running.push(send(node, `c-${step}`));
        else if (what < 0.5) {
          withoutId.sent++;
          running.push(
            node.log.append(count()).then(
              () => withoutId.acknowledged++,
              () => undefined,
            ),
          );
        } else if (what < 0.9) {
          const record = records.next() as LogRecord;
          const proposed = record.kind === 'commit' ? node.log.append(record.commit) : node.log.propose(record);
          running.push(proposed.catch(() => undefined));
        } else if (what < 0.93) {
          // What was not answered is sent again, to another node.
          for (const id of unknown) running.push(send(node, id));
        } else if (what < 0.95) node.restart();
        else if (what < 0.96) node.replaceBy(random.pick(nodes.filter((other) => other !== node)));
        else if (what < 0.98) {
          node.transport.reachable = !node.transport.reachable;
        } else await new Promise((resolve) => setTimeout(resolve, random.integer(0, 25)));
        await new Promise((resolve) => setImmediate(resolve));
      }
      for (const { transport } of nodes) transport.reachable = true;
      await Promise.all(running);
      service.faults = NO_FAULTS;
      // Batches that are on their way still take their time.
      for (let attempt = 0; attempt < 50 && unknown.size > 0; attempt++) {
        await Promise.all([...unknown].map((id) => send(nodes[0]!, id)));
        await new Promise((resolve) => setTimeout(resolve, TIMES.confirmMs / 4));
      }
      expect(
        [...unknown],
        `without faults all are answered: ${String(lastError)}, ${String(nodes[0]!.log.halted)}`,
      ).to.deep.equal([]);
      await until('all nodes are level', () =>
        Boolean(service.late === 0 && nodes.every(({ place }) => place === service.entries.length)),
      );

      const hashes = nodes.map(({ replay }) => replay.hash());
      expect(hashes[1], 'b beside a').to.equal(hashes[0]);
      expect(hashes[2], 'c beside a').to.equal(hashes[0]);
      expect(nodes[0]!.counter('with-id'), 'each commit counts once').to.equal(acknowledged.size);
      expect(nodes[0]!.counter('without-id'), 'none counts twice').to.be.within(withoutId.acknowledged, withoutId.sent);
      expect(acknowledged.size).to.be.above(STEPS / 8);
      for (const { log } of nodes) log.close();
    });
  }

  it('carries a batch that is larger than an entry in parts, also when parts come twice', async () => {
    const service = new FaultyLog(new Random(1));
    const node = new Node('a', service, new Replay(), 1000);
    const text = 'ä€😀'.repeat(5000);
    service.faults = { ...NO_FAULTS, doubledAppend: 0.5, lostAnswer: 0.3 };
    const write = { kind: 'put' as const, collection: 'texts', id: 'long', data: { text } };
    expect(await node.log.append({ timeMs: 1, author: AUTHOR, writes: [write] })).to.have.property('applied');
    expect(service.entries.length).to.be.above(40);
    const stored = node.replay.database.prepare<[], string>('SELECT data FROM documents').pluck().get()!;
    expect(JSON.parse(stored)).to.deep.equal({ text });
    expect(node.replay.database.prepare('SELECT COUNT(*) FROM entry_parts').pluck().get()).to.equal(0);
    node.log.close();
  });

  it('says that an outcome is unknown when the service does not answer, and refuses what was not sent', async () => {
    const service = new FaultyLog(new Random(1));
    const node = new Node('a', service, new Replay(), 1000);
    node.transport.reachable = false;
    const sent = node.log.append(count('one')).then(
      () => 'applied',
      (error: { problem: { type: string } }) => error.problem.type,
    );
    await new Promise((resolve) => setTimeout(resolve, 20));
    const waiting = node.log.append(count('two')).then(
      () => 'applied',
      (error: { problem: { type: string } }) => error.problem.type,
    );
    expect(await sent).to.equal('/problems/unconfirmed');
    expect(await waiting).to.equal('/problems/no-quorum');
    node.transport.reachable = true;
    // The first one is applied late, and only once.
    await until('it is applied', () => node.place === 1);
    expect(await node.log.append(count('one'))).to.have.property('refused');
    node.log.close();
  });

  it('stops at an entry of a form that it does not know', async () => {
    const service = new FaultyLog(new Random(1));
    const node = new Node('a', service, new Replay(), 1000);
    let halted: Error | undefined;
    node.log.onHalt = (error) => (halted = error);
    await service.connect().append(Buffer.from('{"producer":"z","number":1,"part":1,"parts":1}\n{"format":99}'));
    await until('it stops', () => halted !== undefined);
    expect(halted!.message).to.include('format 99');
    expect(node.place).to.equal(0);
    await node.log.append(count('one')).then(
      () => expect.fail('it was taken'),
      (error: Error) => expect(error.message).to.include('format 99'),
    );
    node.log.close();
  });
});
