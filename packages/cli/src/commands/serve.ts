import { resolve } from 'node:path';
import { DEFAULT_DOCUMENT_LIMITS, formatDuration } from '@uproar/core';
import type { AccountsMode, Service, ServiceOptions } from '@uproar/service';
import { DEFAULT_HOST, DEFAULT_PORT } from '@uproar/service/settings';
import { Option, type Command } from 'commander';
import { CLIENT_FILE } from '@uproar/client/file';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import pc from 'picocolors';
import { parseAmount, parseCount, parseDuration, parseQuota, SIZES } from '../amounts.js';
import { CommandError, EXIT } from '../exit-codes.js';

import { readFile } from '../read-data.js';

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
  tokenKeys?: string;
  tokenAlgorithms?: string;
  tokenIssuer?: string;
  tokenAudience?: string;
  accounts: AccountsMode;
  openFor?: string;
  openToTheNetwork?: boolean;
  rateLimit?: string;
  addressRateLimit?: string;
  connections?: string;
  addressConnections?: string;
  watches?: string;
  documentsRead?: string;
  scanIncludes?: boolean;
  fileSize?: string;
  keepDeleted?: string;
  allowOrigin?: string;
  trustProxy?: string;
  tlsCert?: string;
  tlsKey?: string;
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
    .option('--token-keys <url>', 'take tokens (JWT) verified by the public keys (JWK Set) at this address')
    .option('--token-algorithms <names>', 'the algorithms taken of them: RS256,ES256,EdDSA')
    .option('--token-issuer <issuer>', 'what "iss" of a token must be')
    .option('--token-audience <audience>', 'what "aud" of a token must be')
    .addOption(
      new Option(
        '--accounts <mode>',
        'accounts: off, closed (administrators make them), or open (whoever likes signs up)',
      )
        .choices(['off', 'closed', 'open'])
        .default('closed'),
    )
    .option(
      '--open-for <time>',
      'let everybody do everything with documents for so long: 30m, 2h; on this machine only',
    )
    .option('--open-to-the-network', 'let a store that stands open be reached from other machines, too')
    .option(
      '--allow-origin <origins>',
      'let pages of these origins use the store: https://board.example,https://app.example',
    )
    .option('--rate-limit <rate>', 'requests of one identity: 1000/10s unless told otherwise; keys have no limit')
    .option('--address-rate-limit <rate>', 'requests from one address: 10000/10s unless told otherwise')
    .option('--connections <number>', 'connections at a time: 20000 unless told otherwise')
    .option('--address-connections <number>', 'and from one address: 5000 unless told otherwise')
    .option('--watches <number>', 'watches of one connection: 500 unless told otherwise; keys have no limit')
    .option(
      '--documents-read <number>',
      'documents read for one query: 250000 unless told otherwise; keys have no limit',
    )
    .option('--file-size <size>', 'the largest file: 1GB unless told otherwise')
    .option('--keep-deleted <time>', 'keep contents of deleted files for so long: 1d unless told otherwise')
    .option('--scan-includes', 'look related documents up where there is no index for it, by reading whole collections')
    .option('--trust-proxy <addresses>', 'take the word of proxies at these addresses on where a request comes from')
    .option('--tls-cert <file>', 'speak TLS with this certificate (PEM)')
    .option('--tls-key <file>', 'and its key (PEM)')
    .addHelpText(
      'after',
      '\nUPROAR_ADMIN_KEY sets the key of the store; without it the first start makes one and prints it once.\nUPROAR_TOKEN_SECRET sets the secret of tokens (JWT, HS256).\n\nExamples:\n  uproar serve\n  UPROAR_ADMIN_KEY=a-key-of-your-own uproar serve --data /srv/uproar --port 8000\n  uproar serve --open-for 2h\n  uproar serve --token-keys https://id.example/keys.json --token-issuer https://id.example --token-audience festival',
    )
    .action(serve);
}

async function serve(options: Options): Promise<void> {
  const openForMs = parseDuration(options.openFor);
  const service = await start({
    ...accessFrom(options),
    openUntilMs: openForMs === undefined ? undefined : Date.now() + openForMs,
    onOpening: tellOpening,
    directory: options.data,
    host: options.host,
    port: parsePort(options.port),
    logLevel: options.logLevel,
    scanIncludes: options.scanIncludes ?? false,
    files: filesFrom(options),
    journal: {
      maxAgeMs: parseDuration(options.journalAge),
      maxSizeBytes: parseAmount(options.journalSize, SIZES),
    },
    ...limitsFrom(options),
    ...fencesFrom(options),
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

function filesFrom({ fileSize, keepDeleted }: Options): NonNullable<ServiceOptions['files']> {
  const [sizeBytes, unusedMs] = [parseAmount(fileSize, SIZES), parseDuration(keepDeleted)];
  return { ...(sizeBytes === undefined ? {} : { sizeBytes }), ...(unusedMs === undefined ? {} : { unusedMs }) };
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

/** Who is let in, as the options say. */
function accessFrom(options: Options): Partial<ServiceOptions> {
  const { tokenKeys, tokenAlgorithms, tokenIssuer, tokenAudience, tlsCert, tlsKey } = options;
  const secret = process.env.UPROAR_TOKEN_SECRET;
  if ((tlsCert === undefined) !== (tlsKey === undefined)) {
    throw new CommandError('TLS takes both --tls-cert and --tls-key.', EXIT.usage);
  }
  if (tokenKeys !== undefined && !URL.canParse(tokenKeys)) {
    throw new CommandError(
      `"${tokenKeys}" is no address of keys.`,
      EXIT.usage,
      'Write it like https://id.example/keys.json.',
    );
  }
  return {
    accounts: options.accounts,
    openToTheNetwork: options.openToTheNetwork ?? false,
    ...(options.allowOrigin === undefined ? {} : { allowedOrigins: listOf(options.allowOrigin) }),
    ...(options.trustProxy === undefined ? {} : { trustedProxies: listOf(options.trustProxy) }),
    ...(tlsCert === undefined ? {} : { tls: { cert: readFile(tlsCert), key: readFile(tlsKey!) } }),
    ...(tokenKeys === undefined && secret === undefined
      ? {}
      : {
          tokens: {
            secret,
            keysUrl: tokenKeys,
            algorithms: tokenAlgorithms === undefined ? undefined : listOf(tokenAlgorithms),
            issuer: tokenIssuer,
            audience: tokenAudience,
          },
        }),
  };
}

function listOf(text: string): string[] {
  return text
    .split(',')
    .map((part) => part.trim())
    .filter((part) => part !== '');
}

/** Says how long the store still stands open, and when it is closed. */
function tellOpening(leftMs: number): void {
  process.stdout.write(
    leftMs === 0
      ? `${pc.green('closed')} The store is closed again: it takes keys and tokens.\n`
      : `${pc.yellow('open')} Everybody may do everything with documents for ${formatDuration(leftMs)} more, until ${new Date(Date.now() + leftMs).toLocaleTimeString()}.\n`,
  );
}

/** How much is let in at a time, as the options say. */
function fencesFrom(options: Options): Partial<ServiceOptions> {
  const { rateLimit, addressRateLimit, connections, addressConnections, watches, documentsRead } = options;
  return {
    rateLimits: {
      ...(rateLimit === undefined ? {} : { identity: parseQuota(rateLimit) }),
      ...(addressRateLimit === undefined ? {} : { address: parseQuota(addressRateLimit) }),
    },
    connectionLimits: {
      ...(connections === undefined ? {} : { total: parseCount(connections) }),
      ...(addressConnections === undefined ? {} : { perAddress: parseCount(addressConnections) }),
    },
    accessLimits: {
      ...(watches === undefined ? {} : { watches: parseCount(watches) }),
      ...(documentsRead === undefined ? {} : { documentsRead: parseCount(documentsRead) }),
    },
  };
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
