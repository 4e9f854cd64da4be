import type { Server as SecureServer } from 'node:https';
import { createSecureContext } from 'node:tls';
import type { FastifyInstance } from 'fastify';
import type { Context } from './requests/context.js';
import { DEFAULT_CONNECTION_LIMITS } from './connections/connection-registry.js';
import { DEFAULT_ACCESS_LIMITS, type Reloadable } from './settings.js';

/**
 * Has a running service go by other settings from now on, all of them or none.
 *
 * @throws {RangeError} or what TLS says of a certificate, when they cannot be
 */
export function reload(
  context: Pick<Context, 'originPolicy' | 'rates' | 'connections' | 'accessLimits' | 'store'>,
  app: FastifyInstance,
  settings: Reloadable,
): void {
  const { originPolicy, rates, connections, accessLimits, store } = context;
  const { tls } = settings;
  if (tls) {
    // An invalid certificate is found before anything is changed.
    createSecureContext(tls);
    if (!('setSecureContext' in app.server)) throw new RangeError('TLS can only be enabled when the service starts.');
  }
  originPolicy.setOrigins(settings.allowedOrigins ?? []);
  if (tls) (app.server as unknown as SecureServer).setSecureContext(tls);
  rates.set(settings.rateLimits ?? {});
  Object.assign(connections.limits, DEFAULT_CONNECTION_LIMITS, settings.connectionLimits);
  Object.assign(accessLimits, DEFAULT_ACCESS_LIMITS, settings.accessLimits);
  store.keepJournal(settings.journal ?? {});
  app.log.level = settings.logLevel ?? 'silent';
  app.log.info('settings loaded again');
}
