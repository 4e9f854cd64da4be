import { formatBytes } from '@uproar/core';
import { createHash } from 'node:crypto';
import { existsSync, renameSync, rmSync } from 'node:fs';
import { open } from 'node:fs/promises';
import { isProblem, type Store } from '@uproar/client';
import type { Command } from 'commander';
import pc from 'picocolors';
import { printReport } from './check.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';
import { ProgressBar } from '../output/progress-bar.js';

interface Options extends StoreOptions {
  force?: boolean;
  json?: boolean;
}

interface Backup {
  id: string;
  state: 'copying' | 'hashing' | 'ready' | 'failed';
  progress: number;
  seq: number;
  sizeBytes: number;
  sha256: string;
  reason?: string;
}

/** `uproar backup`: fetches a copy of a store that runs, and checks it. */
export function addBackup(program: Command): void {
  withStoreOptions(program.command('backup'))
    .summary('back up a running store')
    .description(
      'Copies a store while it is in use, downloads the copy and checks it. The copy shows one state of the store. ' +
        'The store needs disk space for the copy until it is downloaded.',
    )
    .argument('<file>', 'the file to write, for example festival.sqlite')
    .option('--force', 'replace an existing file')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar backup festival.sqlite\n  uproar backup "backups/$(date +%F).sqlite" --json',
    )
    .action((file: string, options: Options) => {
      if (existsSync(file) && !options.force) {
        throw new CommandError(
          `${file} is there already.`,
          EXIT.usage,
          'Choose another name, or replace it with --force.',
        );
      }
      return useStore(options, (store) => backup(store, file, options));
    });
}

async function backup(store: Store, file: string, options: Options): Promise<void> {
  const started = performance.now();
  const part = `${file}.part`;
  const { id } = await store.post<Backup>('/v1/backups', {});
  try {
    const made = await waitFor(store, id);
    await fetchContent(store, made, part);
    const { checkStore } = await import('@uproar/service');
    const report = checkStore(part);
    if (!report.sound) {
      printReport(file, report, options.json ?? false);
      throw new CommandError(
        'The copy is damaged and was not kept.',
        EXIT.unsound,
        'Check the store itself with uproar check.',
      );
    }
    renameSync(part, file);
    const seconds = (performance.now() - started) / 1000;
    if (options.json) {
      const { seq, sizeBytes, sha256 } = made;
      printJson({ file, seq, documents: report.documents, sizeBytes, sha256, sound: true });
    } else {
      process.stdout.write(
        `${pc.green('backed up')} ${report.documents} documents at seq ${made.seq} into ${file}  ` +
          `${pc.dim(`${formatBytes(made.sizeBytes)}, checked, ${seconds.toFixed(1)} s`)}\n`,
      );
    }
  } finally {
    rmSync(part, { force: true });
    await store.request('DELETE', `/v1/backups/${id}`).catch((error: unknown) => {
      if (!isProblem(error, 'no-such-backup')) throw error;
    });
  }
}

async function waitFor(store: Store, id: string): Promise<Backup> {
  const bar = new ProgressBar('copied in the store');
  try {
    for (;;) {
      const backup = await store.fetch<Backup>(`/v1/backups/${id}`);
      if (backup.state === 'ready') return backup;
      if (backup.state === 'failed') throw new CommandError(`The store could not be copied: ${backup.reason}`);
      bar.update(Math.round(backup.progress * 100), 100, {});
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  } finally {
    bar.stop();
  }
}

async function fetchContent(store: Store, { id, sizeBytes, sha256 }: Backup, file: string): Promise<void> {
  const response = await store.request('GET', `/v1/backups/${id}/content`, undefined, '*/*');
  const bar = new ProgressBar('{done} of {size} fetched', 'bytes');
  const out = await open(file, 'w', 0o600);
  const hash = createHash('sha256');
  let fetched = 0;
  try {
    const reader = response.body!.getReader();
    for (let piece = await reader.read(); !piece.done; piece = await reader.read()) {
      hash.update(piece.value);
      await out.write(piece.value);
      fetched += piece.value.length;
      bar.update(fetched, sizeBytes, { done: formatBytes(fetched), size: formatBytes(sizeBytes) });
    }
    await out.sync();
  } finally {
    bar.stop();
    await out.close();
  }
  if (fetched !== sizeBytes || hash.digest('hex') !== sha256) {
    throw new CommandError('The download differs from the copy in the store.', EXIT.failed, 'Run it again.');
  }
}
