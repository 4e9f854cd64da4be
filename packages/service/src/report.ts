import { formatTerm, type Query } from '@uproar/core';
import type { FastifyBaseLogger } from 'fastify';
import type { Context } from './requests/context.js';
import type { ReadOutcome } from './store/index.js';
import type { UsageCounter } from './usage/usage-meter.js';
import type { Tracing } from './metrics/tracing.js';

/** Queries that take this long are logged. */
const SLOW_QUERY_MS = 1000;

/** Has what the store does, and what goes wrong, reported: in the metrics, the traces and the log. */
export function reportOn(
  context: Pick<
    Context,
    'store' | 'hookRunner' | 'identities' | 'originPolicy' | 'slowQueries' | 'recorder' | 'usage' | 'onFault'
  >,
  log: FastifyBaseLogger,
  tracing: Tracing,
): void {
  const { store, hookRunner, identities, slowQueries, recorder, usage } = context;
  store.reader.onRead = (query, outcome, durationMs, { identity }) => {
    slowQueries.note(query, outcome, durationMs);
    recorder.recordRead(outcome.documentsReturned, durationMs);
    const { from } = query;
    if (identity !== undefined) countRead(usage.counterFor(identity, from), outcome);
    tracing.past('query', { 'uproar.collection': from, 'uproar.documents': outcome.documentsReturned }, durationMs);
    if (durationMs >= SLOW_QUERY_MS) log.warn(describeSlow(query, outcome, durationMs), 'slow query');
  };
  store.log.onGroup = (commits, durationMs) => {
    recorder.recordGroup(commits, durationMs);
    tracing.past('group', { 'uproar.commits': commits }, durationMs);
  };
  store.log.onFailure = (error) => log.error(error, 'commits could not be written');
  context.originPolicy.onRefused = (origin) =>
    log.warn({ origin }, `a page of another origin was refused; serve --allow-origin ${origin} allows it`);
  context.onFault = (error) => log.error(error, 'a call failed');
  hookRunner.events = {
    onAttempt: ({ name, definition }, { delivered, sentBytes }, delayMs) => {
      recorder.recordHookDelivery(name, delivered, delayMs);
      usage.counterFor(`hook:${name}`, definition.collection).delivery(sentBytes);
    },
    onPaused: ({ name }, reason) => {
      log.warn({ hook: name, reason }, 'a hook was paused');
      identities.audit.add({ event: 'hook-paused', identity: 'service', detail: { hook: name, reason } });
    },
    onFault: (error) => log.error(error, 'a hook could not be served'),
  };
}

/** Where it is not known how many documents were looked at, at least those were that were returned. */
function countRead(counter: UsageCounter, { documentsRead, documentsReturned }: ReadOutcome): void {
  counter.read(documentsReturned, documentsRead ?? documentsReturned);
}

/** What the log says about a slow query; without its condition. */
function describeSlow({ from, order }: Query, { plan, documentsReturned }: ReadOutcome, durationMs: number) {
  return {
    collection: from,
    order: order.map(formatTerm).join(','),
    index: plan?.index?.fields,
    documentsReturned,
    ms: Math.round(durationMs),
  };
}
