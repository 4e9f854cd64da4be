import { formatBytes, formatDuration } from '@uproar/core';
import type { Command } from 'commander';
import type { CollectionListing } from '@uproar/protocol';
import type { CheckStep } from '@uproar/client';
import pc from 'picocolors';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { openAt, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson, printTable } from '../output/output.js';

/** `uproar status`: checks the connection and lists the collections. */
export function addStatus(program: Command): void {
  withStoreOptions(program.command('status'))
    .summary('show whether the store can be reached, and its collections')
    .description('Checks the connection to the store, reports the first failing step, and lists the collections.')
    .option('--json', 'print everything as one JSON object')
    .addHelpText('after', '\nExamples:\n  uproar status\n  uproar status --url http://127.0.0.1:4680 --json')
    .action(status);
}

const ADVICE = {
  address: 'Is the store running? Give its address with --url or UPROAR_URL.',
  key: 'Give the key with --key or UPROAR_KEY. The first start of the store printed it.',
  live: 'A proxy between here and the store may block WebSockets.',
};
const EXIT_CODES = { address: EXIT.unreachable, key: EXIT.refused, live: EXIT.unreachable };

async function status(options: StoreOptions & { json?: boolean }): Promise<void> {
  const store = openAt(options);
  try {
    const started = performance.now();
    const steps = await store.check();
    const failed = steps.find(
      (found): found is CheckStep & { step: keyof typeof EXIT_CODES } => !found.ok && found.step !== 'clock',
    );
    if (options.json && failed) printJson({ url: store.url, steps });
    if (!options.json)
      for (const { ok, step, detail } of steps)
        process.stdout.write(`${ok ? pc.green('✓') : pc.red('✗')} ${step.padEnd(8)} ${detail}\n`);
    if (failed)
      throw new CommandError(
        `The connection check failed at: ${failed.step}.`,
        EXIT_CODES[failed.step],
        ADVICE[failed.step],
      );
    const elapsedMs = Math.round(performance.now() - started);
    const server = await store.ready();
    const { documents: collections, seq } = await store.fetch<CollectionListing>('/v1/collections');
    if (options.json) {
      printJson({ url: store.url, steps, elapsedMs, ...server, seq, collections });
      return;
    }
    process.stdout.write(
      `\n${pc.bold(store.url)}  ${pc.dim(`version ${server.serverVersion}, store ${server.store}, seq ${seq}, checked in ${elapsedMs} ms`)}\n\n`,
    );
    if (server.openUntil !== undefined) {
      const leftMs = Date.parse(server.openUntil) - Date.now();
      process.stdout.write(
        `${pc.yellow('open')} Everybody may do everything with documents for ${formatDuration(leftMs)} more.\n\n`,
      );
    }
    if (collections.length === 0) {
      process.stdout.write(`The store is empty. Begin with: uproar put notes/first '{"text":"hello"}'\n`);
      return;
    }
    printTable(
      ['collection', 'documents', 'size', 'last change'],
      collections.map(({ id, updated, data: { documents, sizeBytes } }) => [
        id,
        documents === undefined ? '–' : String(documents),
        sizeBytes === undefined ? '–' : formatBytes(sizeBytes),
        updated ?? '–',
      ]),
    );
  } finally {
    store.close();
  }
}
