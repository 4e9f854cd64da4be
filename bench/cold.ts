import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openStore } from '@uproar/service';
import { KEY, percentile, type Row } from './harness.js';

const DOCUMENTS = Number(process.env.BENCH_DOCUMENTS ?? 1_000_000);
const CLI = new URL('../packages/cli/dist/bundled/main.js', import.meta.url).pathname;

/**
 * From start to the first answer: with a million documents and as many commits in the journal, compared with an empty
 * store; and with an empty store, compared with Node.js alone.
 */
export async function benchCold(): Promise<Row[]> {
  const full = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  const empty = mkdtempSync(join(tmpdir(), 'uproar-bench-'));
  openStore(empty).close();
  const store = openStore(full);
  const author = { kind: 'key' as const, name: 'bench' };
  for (let part = 0; part < DOCUMENTS; part += 5000) {
    await Promise.all(
      Array.from({ length: 5000 }, (_, n) => {
        const id = `bl-${part + n}`;
        const data = { name: id, altitude: n % 3000, status: 'aloft' };
        return store.log.append({ timeMs: 0, author, writes: [{ kind: 'put', collection: 'balloons', id, data }] });
      }),
    );
  }
  store.close();
  const times = { full: [] as number[], empty: [] as number[], bare: [] as number[] };
  for (let round = 0; round < 7; round++) {
    times.full.push(await start(full));
    times.empty.push(await start(empty));
    times.bare.push(await startBare());
  }
  rmSync(full, { recursive: true, force: true });
  rmSync(empty, { recursive: true, force: true });
  const withMany = percentile(times.full, 0.5);
  const withNone = percentile(times.empty, 0.5);
  const bare = percentile(times.bare, 0.5);
  return [
    {
      benchmark: 'cold',
      what: `start to ready with ${DOCUMENTS} documents and as many commits in the journal, compared with an empty store`,
      ours: withMany,
      bare: withNone,
      unit: 'ms',
      ratio: withMany / withNone,
      aim: 'at most 1.3',
      reached: withMany / withNone <= 1.3,
    },
    {
      benchmark: 'cold',
      what: 'start to the first answer with an empty store, compared with Node.js alone (0.5 s where that takes 0.1 s)',
      ours: withNone,
      bare,
      unit: 'ms',
      ratio: withNone / bare,
      aim: 'at most 5',
      reached: withNone / bare <= 5,
    },
  ];
}

async function start(directory: string): Promise<number> {
  const begun = performance.now();
  const child = spawn(process.execPath, [CLI, 'serve', '--data', directory, '--port', '0'], {
    env: { ...process.env, UPROAR_ADMIN_KEY: KEY, NO_COLOR: '1' },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  let said = '';
  const url = await new Promise<string>((resolve) =>
    child.stdout.on('data', (text) => {
      said += String(text);
      const found = /serves (http:\S+)/.exec(said)?.[1];
      if (found) resolve(found);
    }),
  );
  const { status } = await fetch(`${url}/v1/data/balloons?limit=1`, { headers: { authorization: `Bearer ${KEY}` } });
  const took = performance.now() - begun;
  child.kill('SIGTERM');
  await new Promise((resolve) => child.once('exit', resolve));
  if (status !== 200) throw new Error(`The store answered ${status}.`);
  return took;
}

/** How long Node.js takes to run nothing. */
async function startBare(): Promise<number> {
  const begun = performance.now();
  await once(spawn(process.execPath, ['-e', '0'], { stdio: 'ignore' }), 'exit');
  return performance.now() - begun;
}
