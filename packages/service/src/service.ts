import type { FastifyInstance } from 'fastify';
import { createContext } from './create-context.js';
import type { Cluster, ClusterOptions } from './cluster/cluster.js';
import { buildApp } from './http/build-app.js';
import { addressFinder } from './http/server.js';
import type { Identities } from './identity/identities.js';
import { MIN_KEY_LENGTH } from './identity/keys.js';
import { countDownOpenPeriod } from './identity/open-period.js';
import { Tracing } from './metrics/tracing.js';
import { reload } from './reload.js';
import { reportOn } from './report.js';
import type { Context } from './requests/context.js';
import type { Reloadable, ServiceOptions } from './settings.js';
import type { Store } from './store/index.js';
import { VERSION } from './version.js';
import { serveSockets } from './websocket/socket-server.js';

/** How long clients may take to close their connections when the service stops, in milliseconds. */
const CLOSE_WITHIN_MS = 2000;

/** A running service. */
export interface Service {
  /** The address of the service, for example `http://127.0.0.1:4680`. */
  address: string;
  /** The key that the first start of a store creates; it cannot be retrieved later. */
  firstKey: string | undefined;
  store: Store;
  identities: Identities;
  /**
   * Applies changed settings, all of them or none.
   *
   * @throws {RangeError} for invalid settings, or the error of TLS for an invalid certificate
   */
  reload(settings: Reloadable): void;
  /**
   * Stops accepting requests, ends the watches, writes waiting commits and closes the store.
   *
   * @param drainMs how long to drain before: connections are closed one after another, new ones are refused, and
   *   `/readyz` returns 503; other requests are still answered
   */
  close(drainMs?: number): Promise<void>;
}

/**
 * Starts a service on a data directory.
 *
 * @throws {StoreError} when the store cannot be opened
 * @throws {RangeError} when the admin key or the options for an open period are invalid
 */
export async function startService(options: ServiceOptions): Promise<Service> {
  checkOptions(options);
  const tracing = await Tracing.load();
  const cluster = options.cluster && (await beginCluster(options.directory, options.cluster));
  const context = await openContext(options, tracing, cluster);
  const { identities, store } = context;
  const app = await buildApp(context, options, tracing);
  reportOn(context, app.log, tracing);
  context.sockets.watch(app.server);
  const closeSockets = serveSockets(app.server, context, addressFinder(options));
  let stopCountDown = () => {};
  const close = async (drainMs = 0) => {
    await drain(context, app, drainMs);
    stopCountDown();
    await closeAll(context, app, closeSockets);
  };
  app.log.info(
    { version: VERSION, node: process.version, data: options.directory, seq: store.log.seq },
    'store opened',
  );
  cluster?.onHalt((error) => {
    app.log.error(error, 'this node does not take part in its cluster any more');
    if (options.onHalt) options.onHalt(error);
    else void close();
  });
  try {
    await cluster?.start(store);
    // A full disk: the next start tries again.
    await identities.accounts.removeExpiredGuests().catch(() => undefined);
    const address = await app.listen({ host: options.host, port: options.port });
    if (options.openForMs !== undefined) identities.openFor(options.openForMs);
    stopCountDown = countDownOpenPeriod(
      identities,
      options.onOpenPeriod ?? ((leftMs) => app.log.warn(describeOpenPeriod(leftMs))),
    );
    return {
      address,
      firstKey: await identities.keys.createFirst(),
      store,
      identities,
      reload: (settings) => reload(context, app, settings),
      close,
    };
  } catch (error) {
    await close();
    throw error;
  }
}

/** The parts of a cluster are loaded only where there is one. */
async function beginCluster(directory: string, options: ClusterOptions): Promise<Cluster> {
  const { Cluster } = await import('./cluster/cluster.js');
  return Cluster.begin(directory, options);
}

async function openContext(options: ServiceOptions, tracing: Tracing, cluster: Cluster | undefined): Promise<Context> {
  try {
    return createContext(options, tracing, cluster);
  } catch (error) {
    await cluster?.close();
    throw error;
  }
}

function checkOptions({ adminKey, openForMs, host, openToTheNetwork }: ServiceOptions): void {
  if (adminKey !== undefined && !/^[\x21-\x7e]+$/.test(adminKey)) {
    throw new RangeError('The key in UPROAR_ADMIN_KEY must be printable ASCII without spaces.');
  }
  if (adminKey !== undefined && adminKey.length < MIN_KEY_LENGTH) {
    throw new RangeError(
      `The key in UPROAR_ADMIN_KEY is too short to be safe; use at least ${MIN_KEY_LENGTH} characters.`,
    );
  }
  if (openForMs !== undefined && !isLoopback(host) && !openToTheNetwork) {
    throw new RangeError(
      `An open store only listens on this machine, not at ${host}. Use --open-to-the-network to open it to everyone who can reach it.`,
    );
  }
}

function isLoopback(host: string): boolean {
  return host === 'localhost' || host === '::1' || /^127(\.\d{1,3}){3}$/.test(host);
}

function describeOpenPeriod(leftMs: number): string {
  return leftMs === 0 ? 'The open period is over.' : `The store is open to everyone for another ${leftMs} ms.`;
}

/** Marks the service as stopping, and closes live connections one after another. */
async function drain(context: Context, app: FastifyInstance, drainMs: number): Promise<void> {
  if (context.draining) app.log.warn('stopping at once');
  else app.log.info({ connections: context.connections.size, drainMs }, 'stopping');
  context.draining = true;
  if (drainMs > 0) await context.connections.drain(drainMs);
}

/** Closes connections, the server, and the parts of the service. */
async function closeAll(context: Context, app: FastifyInstance, closeSockets: () => () => void): Promise<void> {
  const { store, hookRunner, usageRecorder, presence, views, connections, sockets, sampler, identities, closing } =
    context;
  const terminateSockets = closeSockets();
  for (const end of closing) end();
  const cutOff = setTimeout(() => {
    terminateSockets();
    store.reader.close();
    app.server.closeAllConnections();
  }, CLOSE_WITHIN_MS);
  await app.close();
  clearTimeout(cutOff);
  views.close();
  connections.close();
  sockets.close();
  sampler.close();
  await hookRunner.close();
  await usageRecorder.close();
  presence.close();
  await identities.audit.flush();
  await context.cluster?.close();
  await store.close();
  app.log.info('stopped');
}
