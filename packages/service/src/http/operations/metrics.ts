import { formatTime } from '@uproar/core';
import { MetricsReport, Problem, SlowQuery, ViewCost, type BudgetUse } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import { describeMachine } from '../../metrics/machine.js';
import { VERSION } from '../../version.js';
import type { Context } from '../../requests/context.js';
import type { OnAnswer } from '../answers.js';

/** How the service does: what happens in it, which queries are slow, and what the watches cost. */
export function serveMetrics(
  app: FastifyInstance,
  context: Pick<
    Context,
    'store' | 'views' | 'connections' | 'recorder' | 'sampler' | 'slowQueries' | 'budgets' | 'bytes' | 'sockets'
  >,
  onAnswer: OnAnswer,
): void {
  const { sampler, slowQueries, store, recorder, views } = context;
  const routes = app.withTypeProvider<ZodTypeProvider>();

  onAnswer(({ method, routeOptions }, reply, aborted) => {
    const route = routeOptions.url ?? 'none';
    if (aborted) recorder.recordAborted(method, route);
    else recorder.recordRequest(method, route, reply.statusCode, reply.elapsedTime);
  });

  routes.get(
    '/v1/metrics/samples',
    {
      config: { admin: true },
      schema: {
        operationId: 'getSamples',
        tags: ['operations'],
        summary: 'Read metrics of the service, one sample per second',
        description: 'The last 15 minutes are kept in memory.',
        querystring: z.strictObject({
          after: z.iso
            .datetime({ error: '"after" is a time like 2026-06-12T04:30:00Z.' })
            .optional()
            .describe('Only samples taken after this moment.'),
        }),
        response: { 200: MetricsReport, default: Problem },
      },
    },
    (request) => {
      const { after } = request.query;
      const { first, last } = store.journal.bounds();
      const [oldest] = last < first ? [] : store.journal.after(first - 1, 1);
      return {
        samples: sampler.after(after === undefined ? 0 : Date.parse(after)),
        started: formatTime(sampler.startedMs),
        version: VERSION,
        journal: { first, last, from: oldest ? formatTime(oldest.timeMs) : null, sizeBytes: store.journal.sizeBytes },
        connectionLimit: context.connections.limits.total,
        budgets: describeBudgets(context),
        machine: describeMachine(store.directory),
      };
    },
  );
  routes.get(
    '/v1/metrics/queries',
    {
      config: { admin: true },
      schema: {
        operationId: 'getSlowQueries',
        tags: ['operations'],
        summary: 'List slow queries, sorted by total time',
        description: 'Queries of 10 ms and more since the start. Queries that differ only in values are grouped.',
        response: { 200: z.object({ queries: z.array(SlowQuery) }), default: Problem },
      },
    },
    () => ({ queries: slowQueries.list() }),
  );
  routes.get(
    '/v1/metrics/views',
    {
      config: { admin: true },
      schema: {
        operationId: 'getViewCosts',
        tags: ['operations'],
        summary: 'List the views, sorted by cost',
        description: 'Watches of the same query with the same permissions share one view.',
        querystring: z.strictObject({ limit: z.coerce.number().int().min(1).max(1000).default(100) }),
        response: { 200: z.object({ views: z.array(ViewCost), total: z.int() }), default: Problem },
      },
    },
    (request) => {
      const dearest = [...views.list()]
        .sort((a, b) => b.view.cost.milliseconds - a.view.cost.milliseconds)
        .slice(0, request.query.limit);
      return {
        views: dearest.map(({ view: { name, target, watchers, cost }, matchedBy }) => {
          const { sinceMs, milliseconds, ...counts } = cost;
          const spent = { ...counts, milliseconds: Math.round(milliseconds * 1000) / 1000 };
          return { view: name, ...target, watchers, matchedBy, since: formatTime(sinceMs), ...spent };
        }),
        total: views.size,
      };
    },
  );
}

/** Holders that are named. */
const MAX_HOLDERS = 20;

function describeBudgets({
  bytes,
  budgets,
  sockets,
  store,
  views,
}: Pick<Context, 'store' | 'views' | 'budgets' | 'bytes' | 'sockets'>): BudgetUse {
  return {
    heldBytes: bytes.total,
    processBytes: budgets.processBytes,
    identityBytes: budgets.identityBytes,
    holders: bytes.list(MAX_HOLDERS),
    sockets: sockets.size,
    longReads: store.reader.load,
    refused: { ...bytes.refused },
    ended: { ...sockets.ended, 'live-work': views.endedForWork },
  };
}
