import { DEFAULT_HOST, DEFAULT_PORT, LOG_LEVELS } from '@uproar/service/settings';
import { z } from 'zod';
import { parseAmount, parseCount, parseDuration, parseQuota, SIZES } from './amounts.js';
import { CommandError } from '../output/exit-codes.js';

/** The documentation of a setting. */
export interface SettingInfo {
  /** Its effect, as shown in the help of `uproar serve`. */
  about: string;
  /** What stands for the value in the help; without it the option takes none. */
  argument?: string;
  /** What holds where nothing is said, for people to read. */
  usual?: string;
  /** True for a list; its option may be given several times. */
  list?: true;
  /** True when a running service takes a new value on SIGHUP. */
  reload?: true;
  /**
   * True for secrets: they are never printed, and cannot be options, because other users can see the options of a
   * process.
   */
  secret?: true;
}

/** The documentation of each setting, from its declaration. */
const info = z.registry<SettingInfo>();

/**
 * All settings of `uproar serve`. Each is an option (`--journal-age 30d`), a variable of the environment
 * (`UPROAR_JOURNAL_AGE=30d`) and a line of the settings file (`journal-age: 30d`), in this order of precedence.
 */
export const SETTINGS = z.strictObject({
  data: declare(text().default('uproar-data'), 'directory', 'the data directory'),
  host: declare(text().default(DEFAULT_HOST), 'host', 'the address to listen on'),
  port: declare(read(parsePort).default(DEFAULT_PORT), 'number', 'the port to listen on; 0 selects a free port'),
  'admin-key': declare(text(), 'key', 'the admin key; without it, the first start creates one and prints it once', {
    secret: true,
  }),
  'admin-key-file': declare(text(), 'file', 'a file with the admin key'),
  'log-level': declare(z.enum(LOG_LEVELS).default('warn'), 'level', 'log level', { reload: true }),
  'journal-age': declare(read(parseDuration), 'time', 'maximum age of the journal: 12h, 30d', {
    usual: 'unlimited',
    reload: true,
  }),
  'journal-size': declare(
    read((given) => parseAmount(given, SIZES)),
    'size',
    'maximum size of the journal: 500MB, 2GB',
    { usual: 'unlimited', reload: true },
  ),
  'write-ahead-size': declare(size(), 'size', 'size of the write-ahead log at which it is moved into the store file', {
    usual: '16 MiB',
  }),
  'document-size': declare(size(), 'size', 'maximum size of a document', { usual: '1 MiB' }),
  'commit-size': declare(size(), 'size', 'maximum size of a commit', { usual: '16 MiB' }),
  'commit-writes': declare(count(), 'number', 'maximum number of writes of a commit', { usual: '10000' }),
  'commit-result-size': declare(size(), 'size', 'maximum total size of the documents that a commit writes', {
    usual: '64 MiB',
  }),
  'file-size': declare(size(), 'size', 'maximum size of a file', { usual: '1GB' }),
  'keep-deleted': declare(read(parseDuration), 'time', 'how long to keep the contents of deleted files', {
    usual: '1d',
  }),
  'scan-includes': declare(flag(), undefined, 'allow includes without an index, by full scans'),
  accounts: declare(
    z.enum(['off', 'closed', 'open']).default('closed'),
    'mode',
    'accounts: off, closed (created by administrators), or open (self-registration)',
  ),
  'token-secret': declare(text(), 'secret', 'the shared secret for tokens (JWT, HS256)', { secret: true }),
  'token-secret-file': declare(text(), 'file', 'a file with the shared secret for tokens'),
  'token-keys': declare(
    read(parseAddress),
    'url',
    'accept tokens (JWT) signed with the keys (JWK Set) at this address',
  ),
  'token-algorithms': declare(list(), 'names', 'accepted algorithms: RS256,ES256,EdDSA', {
    list: true,
  }),
  'token-issuer': declare(text(), 'issuer', 'required value of "iss" in tokens'),
  'token-audience': declare(text(), 'audience', 'required value of "aud" in tokens'),
  'open-for': declare(
    read(parseDuration),
    'time',
    'open the store to every program on this machine for this time: 30m, 2h',
  ),
  'open-to-the-network': declare(flag(), undefined, 'allow an open store to be reached from other machines'),
  'open-metrics': declare(flag(), undefined, 'serve /metrics without a key'),
  'allow-origin': declare(
    list(),
    'origins',
    'allow pages of these origins to use the store: https://board.example,https://app.example; repeatable',
    { reload: true, list: true },
  ),
  'rate-limit': declare(read(parseQuota), 'rate', 'requests of one identity; keys have no limit', {
    usual: '1000/10s',
    reload: true,
  }),
  'address-rate-limit': declare(read(parseQuota), 'rate', 'requests from one address', {
    usual: '10000/10s',
    reload: true,
  }),
  connections: declare(count(), 'number', 'connections at a time', { usual: '20000', reload: true }),
  'address-connections': declare(count(), 'number', 'connections from one address', { usual: '5000', reload: true }),
  watches: declare(count(), 'number', 'watches of one connection; keys have no limit', {
    usual: '500',
    reload: true,
  }),
  'documents-read': declare(count(), 'number', 'documents read by one query; keys have no limit', {
    usual: '250000',
    reload: true,
  }),
  'result-size': declare(size(), 'size', 'maximum size of a JSON result or journal page; longer ones are paged', {
    usual: '16 MiB',
  }),
  'watch-size': declare(size(), 'size', 'maximum size of the first state of a watch', { usual: '64 MiB' }),
  'identity-memory': declare(size(), 'size', 'memory for one identity: results, states of watches, unread responses', {
    usual: '192 MiB',
  }),
  'total-memory': declare(size(), 'size', 'the same for all identities together', { usual: '512 MiB' }),
  'query-work': declare(count(), 'number', 'maximum steps of work for one query', {
    usual: '2000000000',
  }),
  'watch-work': declare(count(), 'number', 'maximum steps of work per second for the watches of one identity', {
    usual: '10000000',
  }),
  'hello-size': declare(size(), 'size', 'maximum bytes of a WebSocket connection before hello', { usual: '16 KiB' }),
  'unread-timeout': declare(read(parseDuration), 'time', 'close a connection that reads nothing for this time', {
    usual: '30s',
  }),
  'idle-timeout': declare(read(parseDuration), 'time', 'close a connection that sends no request for this time', {
    usual: '20s',
  }),
  'wait-timeout': declare(read(parseDuration), 'time', 'how long a long read may wait in the queue', { usual: '10s' }),
  'drain-for': declare(read(parseDuration), 'time', 'when stopping, close connections one by one over this time: 10s', {
    usual: 'at once',
  }),
  'presence-grace': declare(
    read(parseDuration),
    'time',
    'how long a document stays that lives as long as a connection, after the connection has ended',
    { usual: '10s' },
  ),
  'hook-networks': declare(
    list(),
    'networks',
    'networks that are not public and that hooks may reach, also by http: 10.0.0.0/8,127.0.0.1',
    { list: true },
  ),
  'hook-give-up': declare(read(parseDuration), 'time', 'pause a hook whose deliveries fail for this time', {
    usual: '3d',
  }),
  'hook-hold': declare(
    read(parseDuration),
    'time',
    'how much longer the journal keeps changes that a hook has not delivered',
    { usual: '1d', reload: true },
  ),
  'usage-interval': declare(
    read(parseDuration),
    'time',
    'how often usage is recorded; a node that is killed loses what it has counted since',
    { usual: '1m' },
  ),
  'usage-age': declare(read(parseDuration), 'time', 'how long usage is kept: 62d', { usual: '62d' }),
  'usage-rows': declare(
    count(),
    'number',
    'combinations of identity and collection that the usage of a day tells apart',
    {
      usual: '50000',
    },
  ),
  'trust-proxy': declare(list(), 'addresses', 'trust X-Forwarded-For from proxies at these addresses', { list: true }),
  'tls-cert': declare(text(), 'file', 'enable TLS with this certificate (PEM)', { reload: true }),
  'tls-key': declare(text(), 'file', 'private key of the TLS certificate (PEM)', { reload: true }),
  cluster: declare(
    list(),
    'urls',
    'share the store with other nodes, through etcd at these addresses: http://10.0.0.1:2379,…',
    {
      list: true,
    },
  ),
  'cluster-prefix': declare(text().default('uproar/'), 'text', 'the prefix of the keys in etcd, one for each cluster'),
  'node-address': declare(
    read(parseNodeAddress),
    'url',
    'where other nodes and clients reach this node: http://10.0.0.5:4680',
  ),
  'cluster-user': declare(text(), 'name', 'the user for etcd'),
  'cluster-password': declare(text(), 'password', 'the password for etcd', { secret: true }),
  'cluster-password-file': declare(text(), 'file', 'a file with the password for etcd'),
  'cluster-ca': declare(text(), 'file', 'the certificate of the authority of etcd (PEM)'),
  'cluster-cert': declare(text(), 'file', 'the certificate of this node for etcd (PEM)'),
  'cluster-key': declare(text(), 'file', 'private key of that certificate (PEM)'),
  pages: declare(text(), 'directory', 'serve a folder of static pages at /pages/'),
});

export type Settings = z.infer<typeof SETTINGS>;
export type SettingName = keyof typeof SETTINGS.shape;

export const SETTING_NAMES = Object.keys(SETTINGS.shape) as SettingName[];

/** The documentation of a setting. */
export function describeSetting(name: SettingName): SettingInfo {
  return info.get(SETTINGS.shape[name])!;
}

/** What holds where nothing is said, as it would be written; undefined where that is nothing. */
export function defaultOf(name: SettingName): string | undefined {
  const value: unknown = SETTINGS.shape[name].safeParse(undefined).data;
  return value === undefined || value === false ? undefined : String(value as string | number);
}

/** The variable of the environment that a setting is read from. */
export function variableOf(name: SettingName): string {
  return `UPROAR_${name.toUpperCase().replaceAll('-', '_')}`;
}

function declare<Schema extends z.ZodType>(
  schema: Schema,
  argument: string | undefined,
  about: string,
  more: Pick<SettingInfo, 'usual' | 'reload' | 'secret' | 'list'> = {},
): Schema {
  info.add(schema, { about, ...(argument === undefined ? {} : { argument }), ...more });
  return schema;
}

function text() {
  return z.string().min(1, 'It is empty.').optional();
}

function list() {
  return read((given) =>
    given
      .split(',')
      .map((part) => part.trim())
      .filter((part) => part !== ''),
  );
}

function count() {
  return read(parseCount);
}

function size() {
  return read((given) => parseAmount(given, SIZES));
}

function flag() {
  return z
    .enum(['true', 'false'], { error: 'It is true or false.' })
    .transform((given) => given === 'true')
    .default(false);
}

/** Text that a function reads, which throws where it cannot. */
function read<Value>(parse: (given: string) => Value) {
  return z
    .string()
    .transform((given, context) => {
      try {
        return parse(given);
      } catch (error) {
        if (!(error instanceof CommandError)) throw error;
        context.addIssue({ code: 'custom', message: [error.message, error.advice].filter(Boolean).join(' ') });
        return z.NEVER;
      }
    })
    .optional();
}

/** Reads a port number. */
export function parsePort(given: string): number {
  const port = Number(given);
  if (/^\d{1,5}$/.test(given) && port <= 65535) return port;
  throw new CommandError(`"${given}" is no port.`, 2, 'A port is a number from 0 to 65535.');
}

function parseNodeAddress(given: string): string {
  if (URL.canParse(given) && /^https?:$/.test(new URL(given).protocol)) return new URL(given).origin;
  throw new CommandError(`"${given}" is not the address of a node.`, 2, 'Write it like http://10.0.0.5:4680.');
}

function parseAddress(given: string): string {
  if (URL.canParse(given)) return given;
  throw new CommandError(
    `"${given}" is not the address of a JWK Set.`,
    2,
    'Write it like https://id.example/keys.json.',
  );
}
