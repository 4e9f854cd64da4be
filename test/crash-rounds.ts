import { createHash } from 'node:crypto';
import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { connect, ConnectionError, type Store } from '@uproar/client';
import { canonicalText, type JsonObject } from '@uproar/core';
import { checkStore, databaseFile, openStore } from '@uproar/service';
import { StreamReader } from './event-stream.js';
import { PowerCut, readTree } from './power-cut/power-cut.js';
import { Random } from './random.js';
import { ServedProcess } from './served-process.js';
import { KEY, temporaryDirectory, until } from './service.js';

/** What the rounds came to. */
export interface CrashReport {
  rounds: number;
  acknowledged: number;
  /** Commits whose answer was lost, sent again with the same id after the restart. */
  sentAgain: number;
  /** Those of them that had been applied before the process was killed. */
  hadBeenApplied: number;
  seq: number;
  /** Files whose upload was acknowledged. */
  files: number;
}

/** How a round ends the service, and what it does to the disk. */
export interface Crash {
  /** The environment of the next process. */
  environment(): Record<string, string>;
  /** Called once the process is dead, before the next one starts. */
  after(): void;
}

/** Kills the process; the operating system still writes everything that the process wrote. */
const KILL: Crash = { environment: () => ({}), after: () => undefined };

/** Cuts the power of a machine that has one disk, see {@link PowerCut}. */
export function powerCuts(random: Random, dropSyncs = false): (directory: string, workspace: string) => Crash {
  return (directory, workspace) => {
    const power = new PowerCut(directory, workspace, dropSyncs);
    let before = new Map<string, Buffer>();
    return {
      environment: () => {
        before = readTree(directory);
        return power.begin();
      },
      after: () => void power.cut(random, before),
    };
  };
}

const WRITERS = 8;

/** So small that checkpoints and cuts of the journal happen in every round. */
const OPTIONS = ['--write-ahead-size', '200kB', '--journal-size', '300kB'];

interface Sent {
  writer: number;
  id: string;
  writes: object[];
}

/**
 * Starts the service as a process, with many writers and watchers over HTTP and WebSocket, ends it at a random moment,
 * starts it again, and so on. Each commit increments a shared counter and one of its writer, writes a pair of equal
 * documents, and has an id; commits whose answer was lost are sent again. One client uploads files.
 *
 * @throws {Error} when an acknowledged write or file is missing, a commit is there twice or in part, a watcher does not
 * reach the present state, or the journal has a gap
 */
export async function crashRounds(
  seed: number,
  rounds: number,
  log: (line: string) => void,
  crashOf: (directory: string, workspace: string) => Crash = () => KILL,
): Promise<CrashReport> {
  const random = new Random(seed);
  const { path: workspace, remove } = temporaryDirectory();
  const path = join(workspace, 'data');
  mkdirSync(path);
  const crash = crashOf(path, workspace);
  const report: CrashReport = { rounds, acknowledged: 0, sentAgain: 0, hadBeenApplied: 0, seq: 0, files: 0 };
  const files = new Map<string, string>();
  let served = await ServedProcess.start(path, 0, OPTIONS, crash.environment());
  const { url, port } = served;
  const stores: Store[] = [];
  const streams: StreamReader[] = [];
  try {
    await request(url, 'POST', '/v1/commits', {
      writes: [
        { create: 'counters', id: 'all', data: { n: 0 } },
        ...Array.from({ length: WRITERS }, (_, writer) => ({ create: 'counters', id: `w-${writer}`, data: { n: 0 } })),
      ],
    });
    const watcher = connect(url, { token: KEY, backoffMs: () => 30 });
    stores.push(watcher);
    const watches = [
      watcher.collection('pairs').watch(),
      watcher.collection('counters').watch({ where: 'n > 3', order: '-n', limit: 4 }),
    ];
    const streamed = `${url}/v1/data/counters?limit=none`;
    let stream = await StreamReader.open(streamed);
    /** Commits of each writer that are known to have been applied. */
    const confirmed = Array.from({ length: WRITERS }, () => 0);
    for (let round = 0; round < rounds; round++) {
      const lost: Sent[] = [];
      let stopped = false;
      const write = async (writer: number) => {
        const send = writer % 2 === 0 ? overWebSocket(url, stores) : overHttp(url);
        for (let n = 0; !stopped; n++) {
          const value = { round, n, text: 'x'.repeat(random.integer(0, 400)) };
          const sent = {
            writer,
            id: `r${round}-w${writer}-${n}`,
            writes: [
              { adjust: 'counters/all', by: { '/n': { add: 1 } } },
              { put: `pairs/${writer}-left`, data: value },
              { put: `pairs/${writer}-right`, data: value },
              { adjust: `counters/w-${writer}`, by: { '/n': { add: 1 } } },
            ],
          };
          try {
            await send(sent);
          } catch {
            // Cut off: whether it was applied is not known.
            lost.push(sent);
            return;
          }
          report.acknowledged++;
          confirmed[writer]!++;
        }
      };
      const writers = Array.from({ length: WRITERS }, (_, writer) => write(writer));
      const uploads = uploadFiles(url, `r${round}`, random.integer(1, 200_000), files, () => stopped);
      const maintenance = maintain(url, () => stopped);
      await sleep(random.integer(20, 350));
      await served.stop('SIGKILL');
      stopped = true;
      await Promise.all([...writers, uploads, maintenance]);
      for (const store of stores.splice(1)) store.close();
      crash.after();
      served = await ServedProcess.start(path, port, OPTIONS, crash.environment());
      await checkFiles(url, files);

      const found = await countersOf(url);
      confirmed.forEach((count, writer) => {
        const extra = found.get(`w-${writer}`)! - count;
        const unsure = lost.filter((sent) => sent.writer === writer).length;
        if (extra < 0) throw new Error(`Round ${round}: ${-extra} acknowledged commits of writer ${writer} are gone.`);
        if (extra > unsure) throw new Error(`Round ${round}: writer ${writer} has ${extra - unsure} commits too many.`);
        report.hadBeenApplied += extra;
      });
      for (const sent of lost) {
        const answer = await request(url, 'POST', '/v1/commits', { id: sent.id, writes: sent.writes });
        if (answer.status !== 200) throw new Error(`Sending ${sent.id} again came to ${JSON.stringify(answer.json)}.`);
        confirmed[sent.writer]!++;
      }
      report.sentAgain += lost.length;
      const counters = await countersOf(url);
      const total = confirmed.reduce((sum, count) => sum + count, 0);
      confirmed.forEach((count, writer) => {
        const is = counters.get(`w-${writer}`);
        if (is !== count) throw new Error(`Round ${round}: writer ${writer} counts ${is}, not ${count}.`);
      });
      if (counters.get('all') !== total)
        throw new Error(`Round ${round}: all count ${counters.get('all')}, not ${total}.`);
      await checkPairs(url);
      await checkWatches(url, watches);
      stream = await StreamReader.open(streamed, stream);
      streams.push(stream);
      const { copy, documents } = { copy: stream, documents: await documentsOf(url, 'counters') };
      await until(
        'the event stream shows what a read shows',
        () =>
          canonicalText(copy.state as never) ===
          canonicalText(Object.fromEntries(documents.map((each) => [each.id, each])) as never),
      );
      stream.close();
      log(`round ${round + 1} of ${rounds}: ${report.acknowledged} acknowledged, ${report.sentAgain} sent again`);
    }
    for (const store of stores) store.close();
    await served.stop('SIGKILL');
    const found = checkStore(databaseFile(path));
    if (!found.sound) throw new Error(`The store is not sound: ${JSON.stringify(found.results)}`);
    const store = openStore(path);
    report.seq = store.log.seq;
    report.files = files.size;
    store.close();
    return report;
  } finally {
    for (const store of stores) store.close();
    for (const stream of streams) stream.close();
    await served.stop('SIGKILL');
    remove();
  }
}

/** Makes indexes and backups, and removes them, until it is stopped. */
async function maintain(url: string, stopped: () => boolean): Promise<void> {
  const ask = (method: string, path: string, body?: unknown) =>
    request(url, method, path, body).catch(() => ({ status: 0, json: {} }));
  while (!stopped()) {
    const backup = (await ask('POST', '/v1/backups')).json as { id?: string };
    const index = (await ask('POST', '/v1/indexes', { collection: 'pairs', fields: 'round,-n' })).json as {
      id?: number;
    };
    if (backup.id !== undefined) await ask('DELETE', `/v1/backups/${backup.id}`);
    if (index.id !== undefined) await ask('DELETE', `/v1/indexes/${index.id}`);
  }
}

/** Uploads files until it is stopped; records the hash of each that was acknowledged. */
async function uploadFiles(
  url: string,
  prefix: string,
  bytes: number,
  acknowledged: Map<string, string>,
  stopped: () => boolean,
): Promise<void> {
  for (let n = 0; n < 3 && !stopped(); n++) {
    const id = `${prefix}-${n}`;
    const content = Buffer.alloc(bytes, `${id} `);
    const response = await fetch(`${url}/v1/files/${id}/content`, {
      method: 'PUT',
      headers: { authorization: `Bearer ${KEY}`, 'content-type': 'text/plain', connection: 'close' },
      body: content,
    }).catch(() => undefined);
    if (response?.ok) acknowledged.set(id, createHash('sha256').update(content).digest('hex'));
  }
}

async function checkFiles(url: string, files: ReadonlyMap<string, string>): Promise<void> {
  // The older ones were looked at in earlier rounds.
  for (const [id, hash] of [...files].slice(-10)) {
    const response = await fetch(`${url}/v1/files/${id}/content`, {
      headers: { authorization: `Bearer ${KEY}`, connection: 'close' },
    });
    const content = Buffer.from(await response.arrayBuffer());
    const found = response.ok ? createHash('sha256').update(content).digest('hex') : `HTTP status ${response.status}`;
    if (found !== hash) throw new Error(`The acknowledged file ${id} is gone or damaged (${found}).`);
  }
}

type Send = (sent: Sent) => Promise<void>;

function overWebSocket(url: string, stores: Store[]): Send {
  const store = connect(url, { token: KEY, backoffMs: () => 60_000, outbox: false });
  stores.push(store);
  return async (sent) => {
    if (store.state.name === 'offline') throw new ConnectionError('offline');
    await store.commit({ id: sent.id, writes: sent.writes as never });
  };
}

function overHttp(url: string): Send {
  return async (sent) => {
    const { status } = await request(url, 'POST', '/v1/commits', { id: sent.id, writes: sent.writes });
    if (status !== 200) throw new Error(`The service answered ${status}.`);
  };
}

async function request(
  url: string,
  method: string,
  path: string,
  body?: unknown,
): Promise<{ status: number; json: unknown }> {
  const response = await fetch(url + path, {
    method,
    headers: {
      authorization: `Bearer ${KEY}`,
      // A connection of its own for each, so that none is used that the killed process left behind.
      connection: 'close',
      ...(body === undefined ? {} : { 'content-type': 'application/json' }),
    },
    body: body === undefined ? null : JSON.stringify(body),
  });
  return { status: response.status, json: await response.json() };
}

async function documentsOf(url: string, collection: string): Promise<{ id: string; data: JsonObject }[]> {
  const { json } = await request(url, 'GET', `/v1/data/${collection}?limit=10000`);
  return (json as { documents: { id: string; data: JsonObject }[] }).documents;
}

async function countersOf(url: string): Promise<Map<string, number>> {
  return new Map((await documentsOf(url, 'counters')).map(({ id, data }) => [id, Number(data.n)]));
}

async function checkPairs(url: string): Promise<void> {
  const pairs = new Map((await documentsOf(url, 'pairs')).map(({ id, data }) => [id, canonicalText(data)]));
  for (const [id, data] of pairs) {
    const other = id.replace(/left|right/, (side) => (side === 'left' ? 'right' : 'left'));
    if (pairs.get(other) !== data) throw new Error(`${id} and ${other} differ: a commit is there by half.`);
  }
}

/** Waits until every watch shows the result of a read. */
async function checkWatches(
  url: string,
  watches: readonly ReturnType<ReturnType<Store['collection']>['watch']>[],
): Promise<void> {
  const [pairs, counters] = watches;
  const same = async (path: string, watch: (typeof watches)[number]) => {
    const { json } = await request(url, 'GET', path);
    const { documents } = json as { documents: unknown };
    return (
      watch.current.state === 'live' &&
      canonicalText(documents as never) === canonicalText(watch.current.documents as never)
    );
  };
  await until('the watches show what a read shows', () => same('/v1/data/pairs?limit=10000', pairs!), 120_000);
  await until(
    'the limited watch shows what a read shows',
    () => same(`/v1/data/counters?where=${encodeURIComponent('n > 3')}&order=-n&limit=4`, counters!),
    10_000,
  );
}
