import { execFileSync } from 'node:child_process';
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import Database from 'better-sqlite3';
import { expect } from 'chai';
import { checkStore, databaseFile } from '@uproar/service';
import { MIGRATIONS } from '../dist/store/migrations/index.js';
import { temporaryDirectory, TestService } from '../../../test/service.js';

const SAMPLES = new URL('./stores/', import.meta.url).pathname;

/** A store of an earlier version, and its expected content. */
interface Expected {
  key: string;
  policy: string;
  documents: Record<string, { id: string; version: number }[]>;
  events: unknown[];
  /** The content of the file `picture`, where there was one. */
  content?: string;
}

/** Brings a sample into a data directory. */
function layOut(format: string, directory: string): Expected {
  mkdirSync(directory, { recursive: true });
  execFileSync('tar', ['-xzf', join(SAMPLES, format, 'store.tar.gz'), '-C', directory]);
  return JSON.parse(gunzipSync(readFileSync(join(SAMPLES, format, 'expected.json.gz'))).toString()) as Expected;
}

describe('stores of earlier versions', () => {
  it('are kept as samples up to the present format, so that the next one can be tried on them', () => {
    const present = `format-${MIGRATIONS.length}`;
    expect(existsSync(join(SAMPLES, present)), `run scripts/make-store-sample.mjs to keep ${present}`).to.equal(true);
  });

  for (const format of readdirSync(SAMPLES).sort()) {
    it(`have after the upgrade what they had before (${format})`, async () => {
      const service = await TestService.start({ accounts: 'open' });
      const { directory } = service;
      await service.service.close();
      rmSync(directory, { recursive: true });
      const expected = layOut(format, directory);
      // IdempotencyRecords are remembered for a day; the sample is as if it had been left just now.
      const left = new Database(databaseFile(directory));
      left.prepare('UPDATE outcomes SET time = ?').run(Date.now());
      left.close();
      await service.restart();

      for (const [collection, documents] of Object.entries(expected.documents)) {
        const { json } = await service.request('GET', `/v1/data/${collection}?limit=1000`);
        expect(json.documents, collection).to.deep.equal(documents);
      }
      expect((await service.request('GET', '/v1/journal?after=0&limit=1000')).json.events).to.deep.equal(
        expected.events,
      );
      expect((await service.request('GET', '/v1/policy')).json.text).to.equal(expected.policy);

      // Keys, accounts, the policy and indexes go on working.
      expect((await service.as(expected.key)('GET', '/v1/data/crews/c-1')).status).to.equal(200);
      const { json: session } = await service.as(null)('POST', '/v1/sessions', {
        name: 'ada',
        password: 'a-password-of-ada',
      });
      const ada = service.as((session as { accessToken: string }).accessToken);
      expect((await ada('PATCH', '/v1/data/balloons/bl-1', { altitude: 1 })).status).to.equal(200);
      expect((await ada('PATCH', '/v1/data/balloons/bl-2', { altitude: 1 })).status).to.equal(403);
      expect((await ada('GET', '/v1/data/crews/c-1')).json.data).to.deep.equal({ name: 'Crew 1' });
      const { json: plan } = await service.request('POST', '/v1/explain', {
        from: 'balloons',
        where: "status = 'aloft'",
        order: '-altitude',
      });
      expect(JSON.stringify(plan)).to.include('status,-altitude');

      // A commit that was applied before the upgrade is not applied again.
      const again = await service.request('POST', '/v1/commits', {
        id: 'commit-0',
        writes: Array.from({ length: 10 }, (_, n) => ({
          put: `balloons/bl-${n}`,
          data: { name: `Balloon ${n}`, status: n % 3 ? 'landed' : 'aloft', altitude: n * 10, crewId: `c-${n}` },
        })),
      });
      expect([again.status, again.json.seq]).to.deep.equal([200, 1]);

      if (expected.content !== undefined) {
        expect((await service.request('GET', '/v1/files/picture/content')).text).to.equal(expected.content);
      }

      // New features work on it.
      expect(
        (await service.request('PUT', '/v1/schemas/balloons', { mode: 'warn', schema: { type: 'object' } })).status,
      ).to.be.below(300);
      await service.service.close();
      const { results, sound } = checkStore(databaseFile(directory));
      expect(sound, JSON.stringify(results)).to.equal(true);
      await service.restart();
      await service.stop();
    });
  }

  it('that a newer version wrote are left alone, with a word on what to do', async () => {
    const { path, remove } = temporaryDirectory();
    layOut(`format-${MIGRATIONS.length}`, path);
    const file = join(path, 'uproar.sqlite');
    const database = new Database(file);
    database.pragma(`user_version = ${MIGRATIONS.length + 1}`);
    database.close();
    let message = '';
    await TestService.start({ directory: path }).catch((error: Error) => (message = error.message));
    expect(message)
      .to.include('newer version of Uproar')
      .and.include(`format ${MIGRATIONS.length + 1}`);
    remove();
  });
});
