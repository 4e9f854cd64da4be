import { createProblem } from '@uproar/protocol';
import Fastify, { LogController, type FastifyInstance } from 'fastify';
import type { z } from 'zod';
import { followAnswers } from './answers.js';
import { authenticateRequests } from './authenticate.js';
import { serveBackups } from './administration/backups.js';
import { countRequests } from './count-requests.js';
import { parseJsonBodies } from './body-parser.js';
import { serveFiles } from './data/files.js';
import { serveCommits } from './data/commits.js';
import { serveCollections } from './data/collections.js';
import { serveConnections } from './operations/connections.js';
import { serveConsole } from './pages/console.js';
import type { Context } from '../requests/context.js';
import { serveDocuments } from './data/documents.js';
import { compileCheck, handleErrors, sendProblem } from './errors.js';
import { serveClient, servePages } from './pages/static-files.js';
import { serveErasures } from './administration/erasures.js';
import { serveHooks } from './administration/hooks.js';
import { serveIndexes } from './administration/indexes.js';
import { describeRoutes } from './description/openapi.js';
import { serveJournal } from './data/journal.js';
import { serveMetrics } from './operations/metrics.js';
import { serveCluster } from './operations/cluster.js';
import { serveUsage } from './operations/usage.js';
import { serveOperations } from './operations/operations.js';
import { serveQuery } from './data/query.js';
import { serveSchemas } from './administration/schemas.js';
import { serveSetup } from './administration/setup.js';
import { serveShapes } from './administration/shapes.js';
import { serveAccountAdministration } from './access/accounts.js';
import { serveOwnAccount } from './access/own-account.js';
import { serveSessions } from './access/sessions.js';
import { serveAudit } from './access/audit.js';
import { serveKeys } from './access/keys.js';
import { servePolicy } from './access/policy.js';
import { serveTickets } from './access/tickets.js';
import { limitRequests, serverOptions } from './server.js';
import { loggerOptions, logRequests } from './logging.js';
import type { Tracing } from '../metrics/tracing.js';
import { type ServiceOptions } from '../settings.js';

/** Builds the HTTP server with all routes. */
export async function buildApp(context: Context, options: ServiceOptions, tracing: Tracing): Promise<FastifyInstance> {
  const app: FastifyInstance = Fastify({
    ...serverOptions(options),
    logger: loggerOptions(options.logLevel, options.logStream),
    logController: new LogController({ disableRequestLogging: true }),
    // Lines about a request name it themselves.
    childLoggerFactory: (logger) => logger,
    forceCloseConnections: 'idle',
    frameworkErrors: (_error, _request, reply) => {
      void sendProblem(reply, createProblem('bad-request', 'The address is not correctly percent-encoded.'));
    },
    routerOptions: { maxParamLength: 4096 },
  });
  app.setValidatorCompiler<z.ZodType>(compileCheck);
  // The declarations of responses are for the description only; sent documents were validated when they were received.
  app.setSerializerCompiler(() => (data) => JSON.stringify(data));
  handleErrors(app, ({ type }) => context.recorder.recordProblem(type), context.store.health);
  const onAnswer = followAnswers(app);
  logRequests(app, onAnswer);
  tracing.traceRequests(app, onAnswer);
  await limitRequests(app, context, options, onAnswer);
  countRequests(app, context, onAnswer);
  authenticateRequests(app, context);
  parseJsonBodies(app);
  await describeRoutes(app);
  serveOperations(app, context, options.openMetrics ?? false);
  serveCluster(app, context);
  serveCollections(app, context);
  serveDocuments(app, context);
  serveCommits(app, context);
  serveFiles(app, context);
  serveQuery(app, context);
  serveSchemas(app, context);
  serveShapes(app, context);
  serveIndexes(app, context);
  serveHooks(app, context);
  serveSetup(app, context);
  serveErasures(app, context);
  serveJournal(app, context);
  serveBackups(app, context);
  serveTickets(app, context);
  serveKeys(app, context);
  servePolicy(app, context);
  serveSessions(app, context);
  serveOwnAccount(app, context);
  serveAccountAdministration(app, context);
  serveAudit(app, context);
  serveConnections(app, context);
  serveMetrics(app, context, onAnswer);
  serveUsage(app, context);
  if (options.consoleDirectory) await serveConsole(app, options.consoleDirectory);
  if (options.clientFile) await serveClient(app, options.clientFile);
  const { docsDirectory, pages } = options;
  const folders = { ...(docsDirectory ? { '/docs/': docsDirectory } : {}), ...pages };
  for (const [prefix, directory] of Object.entries(folders)) await servePages(app, prefix, directory);
  await app.ready();
  return app;
}
