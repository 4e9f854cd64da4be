import type { FastifyInstance, FastifyLoggerOptions } from 'fastify';
import { formatIdentity } from '../identity/identity.js';
import { LOG_LEVELS, type LogLevel, type LogStream } from '../settings.js';
import type { OnAnswer } from './answers.js';

/** Never logged, in any place. */
const SECRETS = ['authorization', 'cookie', 'password', 'token', 'secret', 'key', 'ticket', 'signature'];

/** Query parameters with credentials, however they are percent-encoded. */
const SECRET_PARAMETERS = new Set(['ticket', 'signature', 'token', 'key']);

/** Polled regularly by monitoring; logged only at `debug`. */
const POLLED = new Set(['/healthz', '/readyz', '/metrics', '/v1/metrics/samples']);

/** The log: one JSON object per line, by default to standard error. */
export function loggerOptions(level: LogLevel = 'silent', stream: LogStream = process.stderr) {
  return {
    level,
    stream,
    base: null,
    timestamp: () => `,"time":"${new Date().toISOString()}"`,
    formatters: { level: (label: string) => ({ level: label }) },
    redact: { paths: SECRETS.flatMap((name) => [name, `*.${name}`]), censor: '(hidden)' },
  } as FastifyLoggerOptions & { stream: LogStream };
}

/** Logs every request once it has been answered or aborted: `info`, or `error` where the service failed. */
export function logRequests(app: FastifyInstance, onAnswer: OnAnswer): void {
  onAnswer((request, reply, aborted) => {
    const route = request.routeOptions.url;
    const failed = reply.statusCode >= 500 && reply.statusCode !== 503;
    const level = failed ? 'error' : POLLED.has(route ?? '') ? 'debug' : 'info';
    if (!isLogged(app, level)) return;
    app.log[level](
      {
        request: request.id,
        method: request.method,
        // Conditions hold what people look for; only who debugs sees them.
        path: app.log.level === 'debug' ? hideSecrets(request.url) : request.url.split('?')[0],
        status: reply.statusCode,
        ms: Math.round(reply.elapsedTime * 10) / 10,
        from: request.ip,
        as: request.identity ? formatIdentity(request.identity.author) : undefined,
        aborted: aborted || undefined,
      },
      'request',
    );
  });
}

/** Whether lines of a level are written at all. */
export function isLogged(app: FastifyInstance, level: LogLevel): boolean {
  return LOG_LEVELS.indexOf(level) <= LOG_LEVELS.indexOf(app.log.level as LogLevel);
}

/** An address without its credentials. */
export function hideSecrets(address: string): string {
  return address.replace(/([?&])([^=&]*)=[^&]*/g, (whole, before: string, name: string) =>
    SECRET_PARAMETERS.has(decode(name).toLowerCase()) ? `${before}${decode(name)}=(hidden)` : whole,
  );
}

function decode(text: string): string {
  try {
    return decodeURIComponent(text.replaceAll('+', ' ')).trim();
  } catch {
    return text;
  }
}
