import { createHash } from 'node:crypto';
import { createWriteStream, mkdirSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { Readable, Transform } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import type { ReadableStream } from 'node:stream/web';
import { restoreBackup, type BackupInfo } from '../store/index.js';

const POLL_MS = 200;

/** A download without data is aborted after this time, in milliseconds. */
const STALLED_MS = 30_000;

/** A request to another node, which may be busy, may take so long, in milliseconds; the download itself may take longer. */
const REQUEST_MS = 30_000;

/**
 * Copies the store of another node into a data directory. A store that is there is put aside.
 *
 * @param address the address of the other node
 * @param secret what nodes of the cluster authenticate with
 */
export async function copyStore(address: string, secret: string, directory: string): Promise<void> {
  const call = async (method: string, path: string, timeoutMs: number | undefined = REQUEST_MS): Promise<Response> => {
    const response = await fetch(new URL(path, address), {
      method,
      headers: { authorization: `Bearer ${secret}` },
      ...(timeoutMs === undefined ? {} : { signal: AbortSignal.timeout(timeoutMs) }),
    });
    if (!response.ok) throw new Error(`${address} answered ${method} ${path} with ${response.status}.`);
    return response;
  };
  let info = (await (await call('POST', '/v1/backups')).json()) as BackupInfo;
  const { id } = info;
  const part = join(directory, 'copy.part');
  mkdirSync(directory, { recursive: true, mode: 0o700 });
  try {
    while (info.state === 'copying' || info.state === 'hashing') {
      await new Promise((resolve) => setTimeout(resolve, POLL_MS));
      info = (await (await call('GET', `/v1/backups/${id}`)).json()) as BackupInfo;
    }
    if (info.state !== 'ready') throw new Error(`${address} could not copy its store: ${info.reason ?? info.state}`);
    const content = await call('GET', `/v1/backups/${id}/content`, undefined);
    const hash = createHash('sha256');
    const stalled = new AbortController();
    const timer = setTimeout(() => stalled.abort(), STALLED_MS);
    const hashing = new Transform({
      transform: (chunk: Buffer, _encoding, done) => {
        timer.refresh();
        hash.update(chunk);
        done(null, chunk);
      },
    });
    await pipeline(Readable.fromWeb(content.body as ReadableStream), hashing, createWriteStream(part), {
      signal: stalled.signal,
    }).finally(() => clearTimeout(timer));
    if (hash.digest('hex') !== info.sha256) throw new Error(`The copy from ${address} is damaged.`);
    await restoreBackup(part, directory, { replace: true, sameStore: true });
  } finally {
    rmSync(part, { force: true });
    await call('DELETE', `/v1/backups/${id}`).catch(() => undefined);
  }
}
