import { resolve } from 'node:path';
import { DEFAULT_DOCUMENT_LIMITS } from '@uproar/core';
import type { ServiceOptions } from '@uproar/service';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { readFile } from '../arguments/read-data.js';
import { TIMES } from './amounts.js';
import type { Settings } from './declaration.js';

/**
 * The settings as the service takes them.
 *
 * @throws {CommandError} when two of them do not go together, or a file they name cannot be read
 */
export function toServiceOptions(
  settings: Settings,
): Omit<ServiceOptions, 'consoleDirectory' | 'clientFile' | 'docsDirectory'> {
  const { pages } = settings;
  return {
    ...accessOf(settings),
    ...limitsOf(settings),
    ...fencesOf(settings),
    directory: settings.data,
    host: settings.host,
    port: settings.port,
    logLevel: settings['log-level'],
    openMetrics: settings['open-metrics'],
    scanIncludes: settings['scan-includes'],
    files: definedOnly({ sizeBytes: settings['file-size'], unusedMs: settings['keep-deleted'] }),
    journal: {
      maxAgeMs: settings['journal-age'],
      maxSizeBytes: settings['journal-size'],
      holdMs: settings['hook-hold'],
    },
    presenceGraceMs: settings['presence-grace'],
    usage: {
      intervalMs: settings['usage-interval'],
      maxRows: settings['usage-rows'],
      keptDays:
        settings['usage-age'] === undefined ? undefined : Math.max(1, Math.ceil(settings['usage-age'] / TIMES.d)),
    },
    hooks: { networks: settings['hook-networks'], giveUpMs: settings['hook-give-up'] },
    writeAheadBytes: settings['write-ahead-size'],
    openForMs: settings['open-for'],
    ...clusterOf(settings),
    ...(pages === undefined ? {} : { pages: { '/pages/': resolve(pages) } }),
  };
}

/** How this node takes part in a cluster. */
function clusterOf(settings: Settings): Pick<ServiceOptions, 'cluster'> {
  const { cluster: urls, host, port } = settings;
  if (urls === undefined) return {};
  const fault = urls.find((url) => !URL.canParse(url) || !/^https?:$/.test(new URL(url).protocol));
  if (fault !== undefined || urls.length === 0) {
    throw new CommandError(
      `"${fault ?? ''}" is not the address of etcd.`,
      EXIT.usage,
      'Write it like http://10.0.0.1:2379.',
    );
  }
  const name = settings['cluster-user'];
  const password = settings['cluster-password'] ?? readSecret(settings['cluster-password-file']);
  if ((name === undefined) !== (password === undefined)) {
    throw new CommandError('A user for etcd needs both a name and a password.', EXIT.usage);
  }
  const [authority, cert, key] = [settings['cluster-ca'], settings['cluster-cert'], settings['cluster-key']].map(
    (file) => (file === undefined ? undefined : Buffer.from(readFile(file))),
  );
  const address = settings['node-address'] ?? (port === 0 ? undefined : `http://${host}:${port}`);
  if (address === undefined || (settings['node-address'] === undefined && ['0.0.0.0', '::'].includes(host))) {
    throw new CommandError(
      `With --${port === 0 ? 'port 0' : `host ${host}`}, --cluster needs --node-address.`,
      EXIT.usage,
      'It is where other nodes and clients reach this one: http://10.0.0.5:4680.',
    );
  }
  return {
    cluster: {
      address,
      etcd: {
        urls,
        prefix: settings['cluster-prefix'],
        ...(name === undefined ? {} : { user: { name, password: password! } }),
        ...(authority === undefined ? {} : { tls: { authority, cert, key } }),
      },
    },
  };
}

/** Who is let in. */
function accessOf(settings: Settings): Partial<ServiceOptions> {
  const secret = settings['token-secret'] ?? readSecret(settings['token-secret-file']);
  const keysUrl = settings['token-keys'];
  const [cert, key] = [settings['tls-cert'], settings['tls-key']];
  if ((cert === undefined) !== (key === undefined)) {
    throw new CommandError('TLS needs both --tls-cert and --tls-key.', EXIT.usage);
  }
  return {
    adminKey: settings['admin-key'] ?? readSecret(settings['admin-key-file']),
    accounts: settings.accounts,
    openToTheNetwork: settings['open-to-the-network'],
    allowedOrigins: settings['allow-origin'] ?? [],
    ...definedOnly({ trustedProxies: settings['trust-proxy'] }),
    ...(cert === undefined ? {} : { tls: { cert: readFile(cert), key: readFile(key!) } }),
    ...(keysUrl === undefined && secret === undefined
      ? {}
      : {
          tokens: {
            secret,
            keysUrl,
            algorithms: settings['token-algorithms'],
            issuer: settings['token-issuer'],
            audience: settings['token-audience'],
          },
        }),
  };
}

/** How much is let in at a time. */
function fencesOf(settings: Settings): Partial<ServiceOptions> {
  return {
    rateLimits: definedOnly({ identity: settings['rate-limit'], address: settings['address-rate-limit'] }),
    connectionLimits: definedOnly({ total: settings.connections, perAddress: settings['address-connections'] }),
    budgets: definedOnly({
      resultBytes: settings['result-size'],
      watchBytes: settings['watch-size'],
      identityBytes: settings['identity-memory'],
      processBytes: settings['total-memory'],
      queryWork: settings['query-work'],
      watchWork: settings['watch-work'],
      helloBytes: settings['hello-size'],
      unreadMs: settings['unread-timeout'],
      idleMs: settings['idle-timeout'],
      waitMs: settings['wait-timeout'],
    }),
    accessLimits: definedOnly({ watches: settings.watches, documentsRead: settings['documents-read'] }),
  };
}

/** How large documents and commits may be; the others are as usual. */
function limitsOf(settings: Settings): Partial<ServiceOptions> {
  const documentBytes = settings['document-size'];
  return {
    ...(documentBytes === undefined
      ? {}
      : { documentLimits: { ...DEFAULT_DOCUMENT_LIMITS, sizeBytes: documentBytes } }),
    commitLimits: definedOnly({
      sizeBytes: settings['commit-size'],
      writes: settings['commit-writes'],
      resultBytes: settings['commit-result-size'],
    }),
  };
}

function readSecret(file: string | undefined): string | undefined {
  return file === undefined ? undefined : readFile(file).trim();
}

/** Without undefined members. */
function definedOnly<Values extends object>(
  values: Values,
): { [Name in keyof Values]?: Exclude<Values[Name], undefined> } {
  return Object.fromEntries(Object.entries(values).filter(([, value]) => value !== undefined)) as never;
}
