import { createProblem, HEARTBEAT_MS } from '@uproar/protocol';
import Fastify, { LogController, type FastifyInstance } from 'fastify';
import type { z } from 'zod';
import { ByteBudget } from './limits/byte-budget.js';
import { DEFAULT_BUDGETS } from './limits/limits.js';
import { LiveWork } from './limits/live-work.js';
import { OpenSockets } from './limits/open-sockets.js';
import { Committer, DEFAULT_COMMIT_LIMITS } from './commit/committer.js';
import { authenticateRequests } from './http/authenticate.js';
import { serveBackups } from './http/administration/backups.js';
import { parseJsonBodies } from './http/body-parser.js';
import { serveFiles } from './http/data/files.js';
import { serveCommits } from './http/data/commits.js';
import { serveCollections } from './http/data/collections.js';
import { serveConnections } from './http/operations/connections.js';
import { serveConsole } from './http/pages/console.js';
import type { Context } from './requests/context.js';
import { serveDocuments } from './http/data/documents.js';
import { compileCheck, handleErrors, sendProblem } from './http/errors.js';
import { serveClient, servePages } from './http/pages/static-files.js';
import { serveIndexes } from './http/administration/indexes.js';
import { describeRoutes } from './http/description/openapi.js';
import { serveJournal } from './http/data/journal.js';
import { serveMetrics } from './http/operations/metrics.js';
import { serveOperations } from './http/operations/operations.js';
import { serveQuery } from './http/data/query.js';
import { serveSchemas } from './http/administration/schemas.js';
import { serveShapes } from './http/administration/shapes.js';
import { serveAccounts } from './http/access/accounts.js';
import { serveAudit } from './http/access/audit.js';
import { serveKeys } from './http/access/keys.js';
import { servePolicy } from './http/access/policy.js';
import { serveTickets } from './http/access/tickets.js';
import { OriginPolicy } from './requests/origin-policy.js';
import { addressFinder, fenceIn, serverOptions } from './http/server.js';
import { ConnectionRegistry } from './connections/connection-registry.js';
import { Identities } from './identity/identities.js';
import { countDownOpenPeriod } from './identity/open-period.js';
import { MIN_KEY_LENGTH } from './identity/keys.js';
import { RateLimiter, SignInThrottle } from './identity/rate-limits.js';
import { SignedLinks } from './identity/signed-links.js';
import { Tickets } from './identity/tickets.js';
import { LiveViews } from './live/live-views.js';
import { serveSockets } from './websocket/socket-server.js';
import { Sampler } from './metrics/sampler.js';
import { Schemas } from './schemas/schemas.js';
import { SlowQueries } from './metrics/slow-queries.js';
import { MetricsRecorder } from './metrics/metrics-recorder.js';
import { loggerOptions, logRequests } from './http/logging.js';
import { reportOn } from './report.js';
import { Tracing } from './metrics/tracing.js';
import { reload } from './reload.js';
import { DEFAULT_ACCESS_LIMITS, DEFAULT_MAX_UNREAD_BYTES, type Reloadable, type ServiceOptions } from './settings.js';
import { openStore, type Store } from './store/index.js';
import { VERSION } from './version.js';

/** Whoever has not closed their connection by then, when the service stops, is cut off. */
const CLOSE_WITHIN_MS = 2000;

/** A running service. */
export interface Service {
  /** Where it listens, for example `http://127.0.0.1:4680`. */
  address: string;
  /** The key that the first start of a store creates; it cannot be retrieved later. */
  firstKey: string | undefined;
  store: Store;
  identities: Identities;
  /**
   * Goes by other settings from now on, all of them or none.
   *
   * @throws {RangeError} or what TLS says of a certificate, when they cannot be
   */
  reload(settings: Reloadable): void;
  /**
   * Takes no more requests, ends the watches, writes what is waiting and closes the store.
   *
   * @param drainMs before that, connections are ended one after the other for so long, new ones are turned away, and
   *   `/readyz` says no, while other requests are still answered
   */
  close(drainMs?: number): Promise<void>;
}

/**
 * Starts a service on a data directory.
 *
 * @throws {StoreError} when the store cannot be opened
 * @throws {RangeError} when the key given is too short
 */
export async function startService(options: ServiceOptions): Promise<Service> {
  if (options.adminKey !== undefined && !/^[\x21-\x7e]+$/.test(options.adminKey)) {
    throw new RangeError('The key in UPROAR_ADMIN_KEY must be printable ASCII without spaces.');
  }
  if (options.adminKey !== undefined && options.adminKey.length < MIN_KEY_LENGTH) {
    throw new RangeError(
      `The key in UPROAR_ADMIN_KEY is too short to be safe; use at least ${MIN_KEY_LENGTH} characters.`,
    );
  }
  if (options.openUntilMs !== undefined && !isLoopback(options.host) && !options.openToTheNetwork) {
    throw new RangeError(
      `An open store only listens on this machine, not at ${options.host}. Use --open-to-the-network to open it to everyone who can reach it.`,
    );
  }
  const budgets = { ...DEFAULT_BUDGETS, ...options.budgets };
  const store = openStore(options.directory, {
    limits: options.documentLimits,
    waiting: options.waiting,
    waitMs: budgets.waitMs,
    resultBytes: options.commitLimits?.resultBytes,
    journal: options.journal,
    scanIncludes: options.scanIncludes ?? false,
    files: options.files,
  });
  const commitLimits = { ...DEFAULT_COMMIT_LIMITS, ...options.commitLimits };
  const recorder = new MetricsRecorder();
  const tracing = await Tracing.load();
  const bytes = new ByteBudget(budgets);
  const liveWork = new LiveWork(budgets);
  const views = new LiveViews(store, recorder, { bytes, liveWork, watchBytes: budgets.watchBytes });
  const slowQueries = new SlowQueries();
  const identities = new Identities({
    database: store.database,
    adminKey: options.adminKey,
    tokens: options.tokens,
    accounts: options.accounts ?? 'closed',
    openUntilMs: options.openUntilMs,
  });
  store.log.policy = () => identities.policy;
  store.log.onListenerFault = (error) => context.onFault(error);
  const schemas = new Schemas(store.database);
  store.log.validateData = schemas.judge;
  const connections = new ConnectionRegistry(identities, options.connectionLimits);
  const sockets = new OpenSockets(budgets, bytes, () => connections.limits);
  sockets.onEnd = (address, holder, reason) =>
    identities.audit.add({
      event: 'refused',
      identity: holder,
      address,
      detail: { problem: reason, to: 'connection' },
    });
  const sources = {
    store,
    views,
    connections,
    totals: recorder.totals,
    takeCounts: () => recorder.take(),
    bytes,
    sockets,
  };
  const context: Context = {
    store,
    schemas,
    views,
    identities,
    connections,
    rates: new RateLimiter(options.rateLimits),
    signIns: new SignInThrottle(),
    originPolicy: new OriginPolicy(
      options.allowedOrigins,
      options.openToTheNetwork,
      () => identities.openUntilMs() !== undefined,
    ),
    tickets: new Tickets(),
    links: new SignedLinks(store.database),
    committer: new Committer(store, recorder, tracing, commitLimits),
    recorder,
    slowQueries,
    sampler: new Sampler(sources),
    draining: false,
    onFault: () => undefined,
    commitLimits,
    accessLimits: { ...DEFAULT_ACCESS_LIMITS, ...options.accessLimits },
    budgets,
    bytes,
    sockets,
    maxUnreadBytes: options.maxUnreadBytes ?? DEFAULT_MAX_UNREAD_BYTES,
    heartbeatMs: options.heartbeatMs ?? HEARTBEAT_MS,
    closing: new Set(),
  };
  recorder.metrics.attach(sources);
  const app = await buildApp(context, options, tracing);
  reportOn(context, app.log, tracing);
  context.sockets.watch(app.server);
  const closeSockets = serveSockets(app.server, context, addressFinder(options));
  let stopCountDown = () => {};
  const close = async (drainMs = 0) => {
    if (context.draining) app.log.warn('stopping at once');
    else app.log.info({ connections: connections.size, drainMs }, 'stopping');
    context.draining = true;
    if (drainMs > 0) await connections.drain(drainMs);
    stopCountDown();
    const terminateSockets = closeSockets();
    for (const end of context.closing) end();
    const impatience = setTimeout(() => {
      terminateSockets();
      store.reader.close();
      app.server.closeAllConnections();
    }, CLOSE_WITHIN_MS);
    await app.close();
    clearTimeout(impatience);
    views.close();
    connections.close();
    context.sockets.close();
    context.sampler.close();
    identities.audit.flush();
    store.close();
    app.log.info('stopped');
  };
  app.log.info(
    { version: VERSION, node: process.version, data: options.directory, seq: store.log.seq },
    'store opened',
  );
  try {
    const address = await app.listen({ host: options.host, port: options.port });
    const warn = (leftMs: number) =>
      app.log.warn(
        leftMs === 0 ? 'The store is closed again.' : `The store is open to everyone for another ${leftMs} ms.`,
      );
    stopCountDown = countDownOpenPeriod(identities, options.onOpenPeriod ?? warn);
    return {
      address,
      firstKey: identities.keys.createFirst(),
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

function isLoopback(host: string): boolean {
  return host === 'localhost' || host === '::1' || /^127(\.\d{1,3}){3}$/.test(host);
}

async function buildApp(context: Context, options: ServiceOptions, tracing: Tracing): Promise<FastifyInstance> {
  const app: FastifyInstance = Fastify({
    ...serverOptions(options),
    logger: loggerOptions(options.logLevel, options.logStream),
    logController: new LogController({ disableRequestLogging: true }),
    forceCloseConnections: 'idle',
    frameworkErrors: (_error, _request, reply) => {
      void sendProblem(reply, createProblem('bad-request', 'The address is not correctly percent-encoded.'));
    },
    routerOptions: { maxParamLength: 4096 },
  });
  app.setValidatorCompiler<z.ZodType>(compileCheck);
  // Declarations of answers describe; what is sent was checked on its way in.
  app.setSerializerCompiler(() => (data) => JSON.stringify(data));
  handleErrors(app, ({ type }) => context.recorder.recordProblem(type), context.store.health);
  logRequests(app);
  tracing.traceRequests(app);
  await fenceIn(app, context, options);
  authenticateRequests(app, context);
  parseJsonBodies(app);
  await describeRoutes(app);
  serveOperations(app, context, options.openMetrics ?? false);
  serveCollections(app, context);
  serveDocuments(app, context);
  serveCommits(app, context);
  serveFiles(app, context);
  serveQuery(app, context);
  serveSchemas(app, context);
  serveShapes(app, context);
  serveIndexes(app, context);
  serveJournal(app, context);
  serveBackups(app, context);
  serveTickets(app, context);
  serveKeys(app, context);
  servePolicy(app, context);
  serveAccounts(app, context);
  serveAudit(app, context);
  serveConnections(app, context);
  serveMetrics(app, context);
  if (options.consoleDirectory) await serveConsole(app, options.consoleDirectory);
  if (options.clientFile) serveClient(app, options.clientFile);
  const { docsDirectory, pages } = options;
  const folders = { ...(docsDirectory ? { '/docs/': docsDirectory } : {}), ...pages };
  for (const [prefix, directory] of Object.entries(folders)) await servePages(app, prefix, directory);
  await app.ready();
  return app;
}
