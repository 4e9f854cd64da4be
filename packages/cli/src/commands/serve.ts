import { resolve } from 'node:path';
import { DEFAULT_DOCUMENT_LIMITS } from '@uproar/core';
import type { Service, ServiceOptions } from '@uproar/service';
import { DEFAULT_HOST, DEFAULT_PORT } from '@uproar/service/settings';
import type { Command } from 'commander';
import { CLIENT_FILE } from '@uproar/client/file';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import pc from 'picocolors';
import { CommandError, EXIT } from '../exit-codes.js';

interface Options {
  data: string;
  host: string;
  port: string;
  logLevel: 'silent' | 'warn' | 'info' | 'debug';
  journalAge?: string;
  journalSize?: string;
  documentSize?: string;
  commitSize?: string;
  commitWrites?: string;
  pages?: string;
}

/** `uproar serve`: runs a store. */
export function addServe(program: Command): void {
  program
    .command('serve')
    .summary('run a store')
    .description(
      'Opens the store in a data directory, making it where there is none, and serves it until it is stopped.',
    )
    .option('--data <directory>', 'the data directory (or UPROAR_DATA)', process.env.UPROAR_DATA ?? 'uproar-data')
    .option('--host <host>', 'the address to listen at (or UPROAR_HOST)', process.env.UPROAR_HOST ?? DEFAULT_HOST)
    .option(
      '--port <number>',
      'the port to listen at; 0 takes a free one (or UPROAR_PORT)',
      process.env.UPROAR_PORT ?? String(DEFAULT_PORT),
    )
    .option('--log-level <level>', 'silent, warn, info or debug', 'warn')
    .option('--journal-age <time>', 'cut what is older from the journal: 12h, 30d')
    .option('--journal-size <size>', 'cut the oldest while the journal holds more: 500MB, 2GB')
    .option('--document-size <size>', 'the largest document: 1MB unless told otherwise')
    .option('--commit-size <size>', 'the largest commit: 16MB unless told otherwise')
    .option('--commit-writes <number>', 'the most writes of a commit: 10000 unless told otherwise')
    .option('--pages <directory>', 'serve a folder of plain pages at /pages/')
    .addHelpText(
      'after',
      '\nUPROAR_ADMIN_KEY sets the key of the store; without it the first start makes one and prints it once.\n\nExamples:\n  uproar serve\n  UPROAR_ADMIN_KEY=a-key-of-your-own uproar serve --data /srv/uproar --port 8000',
    )
    .action(serve);
}

async function serve(options: Options): Promise<void> {
  const service = await start({
    directory: options.data,
    host: options.host,
    port: parsePort(options.port),
    logLevel: options.logLevel,
    journal: {
      maxAgeMs: parseAmount(options.journalAge, TIMES),
      maxSizeBytes: parseAmount(options.journalSize, SIZES),
    },
    ...limitsFrom(options),
    ...(options.pages === undefined ? {} : { pages: { '/pages/': resolve(options.pages) } }),
  });
  process.stdout.write(
    `${pc.bold('uproar')} serves ${pc.cyan(service.address)}  ${pc.dim(`data in ${options.data}`)}\n`,
  );
  process.stdout.write(
    `console ${pc.cyan(`${service.address}/console/${service.firstKey ? `#key=${service.firstKey}` : ''}`)}\n`,
  );
  if (service.firstKey) {
    process.stdout.write(`\nThe key of this new store, shown only now:\n\n  ${pc.bold(service.firstKey)}\n\n`);
  }
  await stopped();
  process.stdout.write('stopping\n');
  await service.close();
}

/** Starts a service with the console, the key from the environment, and errors that tell what to mend. */
export async function start(
  options: Omit<ServiceOptions, 'adminKey' | 'consoleDirectory' | 'clientFile'> & { adminKey?: string },
): Promise<Service> {
  // The service is loaded only where it is run, so that the other commands start quickly.
  const { startService } = await import('@uproar/service');
  try {
    return await startService({
      adminKey: process.env.UPROAR_ADMIN_KEY,
      consoleDirectory: CONSOLE_DIRECTORY,
      clientFile: CLIENT_FILE,
      ...options,
    });
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    const place = `${options.host}:${options.port}`;
    if (code === 'EADDRINUSE')
      throw new CommandError(`Something listens at ${place} already.`, EXIT.failed, 'Choose another port with --port.');
    if (code === 'EACCES')
      throw new CommandError(
        `This user may not listen at ${place}.`,
        EXIT.failed,
        'Choose a port above 1023 with --port.',
      );
    if (code === 'EADDRNOTAVAIL' || code === 'ENOTFOUND') {
      throw new CommandError(
        `This machine has no address ${options.host}.`,
        EXIT.usage,
        'Choose one it has with --host.',
      );
    }
    throw error;
  }
}

/** The limits that the options set; the others are the usual ones. */
function limitsFrom({ documentSize, commitSize, commitWrites }: Options): Partial<ServiceOptions> {
  if (commitWrites !== undefined && !/^[1-9]\d{0,5}$/.test(commitWrites)) {
    throw new CommandError(`"${commitWrites}" is no number of writes.`, EXIT.usage, 'Write a number from 1 to 999999.');
  }
  const documentBytes = parseAmount(documentSize, SIZES);
  const commitBytes = parseAmount(commitSize, SIZES);
  return {
    ...(documentBytes === undefined
      ? {}
      : { documentLimits: { ...DEFAULT_DOCUMENT_LIMITS, sizeBytes: documentBytes } }),
    commitLimits: {
      ...(commitBytes === undefined ? {} : { sizeBytes: commitBytes }),
      ...(commitWrites === undefined ? {} : { writes: Number(commitWrites) }),
    },
  };
}

const TIMES = { m: 60_000, h: 3_600_000, d: 86_400_000 };
const SIZES = { kB: 1000, MB: 1_000_000, GB: 1_000_000_000 };

/** Reads an amount with its unit. */
function parseAmount(text: string | undefined, units: Record<string, number>): number | undefined {
  if (text === undefined) return undefined;
  const [, number, unit] = /^(\d{1,9})([A-Za-z]+)$/.exec(text) ?? [];
  if (number === undefined || !Object.hasOwn(units, unit!)) {
    throw new CommandError(
      `"${text}" is no amount.`,
      EXIT.usage,
      `Write a number with one of ${Object.keys(units).join(', ')}.`,
    );
  }
  return Number(number) * units[unit!]!;
}

/** Reads a port number. */
export function parsePort(text: string): number {
  const port = Number(text);
  if (!/^\d{1,5}$/.test(text) || port > 65535) {
    throw new CommandError(`"${text}" is no port.`, EXIT.usage, 'A port is a number from 0 to 65535.');
  }
  return port;
}

/** Waits until somebody asks the process to stop. */
export function stopped(): Promise<void> {
  return new Promise((resolve) => {
    process.once('SIGINT', () => resolve());
    process.once('SIGTERM', () => resolve());
  });
}
