import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import Database from 'better-sqlite3';
import { parseOrder, prepareQuery } from '@uproar/core';
import { openStore } from '@uproar/service';
import type { Row } from './harness.js';

const DOCUMENTS = Number(process.env.BENCH_DOCUMENTS ?? 1_000_000);
const CREWS = 1000;

/** One of many balloons, whose crews and altitudes are spread evenly. */
export function makeBalloon(number: number, crews = CREWS) {
  const data = {
    name: `balloon ${number}`,
    crewId: `c-${number % crews}`,
    altitude: (number * 7919) % 3000,
    status: 'aloft',
    fuel: number % 100,
    position: { type: 'Point', coordinates: [number / 1e7, 0.1] },
  };
  return { id: `bl-${number}`, data };
}

/** A table without anything of ours, with the same index, and the statements that the comparison is with. */
export function openBare(directory: string) {
  const bare = new Database(join(directory, 'bare.sqlite'));
  bare.exec(
    'CREATE TABLE balloons (id TEXT PRIMARY KEY, crew TEXT, altitude REAL, data TEXT) STRICT; CREATE INDEX by_crew ON balloons (crew, altitude DESC, id)',
  );
  const insert = bare.prepare('INSERT INTO balloons VALUES (?, ?, ?, ?)');
  const find = bare.prepare(
    'SELECT id, data FROM balloons WHERE crew = ? AND altitude > ? ORDER BY altitude DESC, id LIMIT ?',
  );
  const insertAll = bare.transaction((balloons: ReturnType<typeof makeBalloon>[]) => {
    for (const { id, data } of balloons) insert.run(id, data.crewId, data.altitude, JSON.stringify(data));
  });
  return { bare, insertAll, find };
}

/** An indexed filter with order and limit over a million documents, beside the bare statement. */
export async function benchQuery(): Promise<Row[]> {
  const directory = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const store = openStore(directory);
  await store.indexes.create('balloons', parseOrder('crewId,-altitude'), 0);
  const { bare, insertAll, find } = openBare(directory);
  for (let part = 0; part < DOCUMENTS; part += 1000) {
    const documents = Array.from({ length: 1000 }, (_, n) => makeBalloon(part + n));
    await store.log.append({
      timeMs: 0,
      author: { kind: 'key', name: 'bench' },
      writes: documents.map(({ id, data }) => ({ kind: 'put' as const, collection: 'balloons', id, data })),
    });
    insertAll(documents);
  }
  const rows = [20, 100].map((limit) => {
    const crew = (n: number) => `c-${(n * 31) % CREWS}`;
    const prepared = Array.from({ length: CREWS }, (_, n) =>
      prepareQuery({ from: 'balloons', where: `crewId = 'c-${n}' AND altitude > 300`, order: '-altitude', limit }),
    );
    const bareRate = rate((n) => find.all(crew(n), 300, limit));
    const parseRate = rate((n) =>
      (find.all(crew(n), 300, limit) as { data: string }[]).map(({ data }) => JSON.parse(data) as unknown),
    );
    const ours = rate((n) => {
      const reading = store.reader.readAtOnce(prepared[(n * 31) % CREWS]!, limit);
      if (reading?.found.length !== limit) throw new Error('The query found something else than it should.');
    });
    return {
      benchmark: 'query',
      what: `limit ${limit} of ${DOCUMENTS} documents, by index and in order (the bare statement with its rows parsed: ${Math.round(parseRate)})`,
      ours,
      bare: bareRate,
      unit: 'queries per second',
      ratio: ours / bareRate,
      aim: 'at least 0.5',
      reached: ours / bareRate >= 0.5,
    };
  });
  bare.close();
  store.close();
  rmSync(directory, { recursive: true, force: true });
  return rows;
}

/** How often something can be done in a second, the best of several rounds. */
export function rate(act: (n: number) => unknown): number {
  let best = 0;
  for (let round = 0; round < 5; round++) {
    const start = performance.now();
    let calls = 0;
    while (performance.now() - start < 400) act(calls++);
    best = Math.max(best, (calls * 1000) / (performance.now() - start));
  }
  return best;
}
