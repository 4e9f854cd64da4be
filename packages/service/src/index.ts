/**
 * The service of Uproar: opens a store and serves it over HTTP and WebSocket.
 *
 * @packageDocumentation
 */
export { detachStore } from './cluster/detach.js';
export { startService, type Service } from './service.js';
export { DEFAULT_HOST, DEFAULT_PORT, VERSION, type ServiceOptions } from './settings.js';
export type { AccountsMode } from './identity/identities.js';
export type { TokenSettings } from './identity/tokens.js';
export {
  checkStore,
  databaseFile,
  openStore,
  restoreBackup,
  StoreError,
  type CheckReport,
  type Store,
} from './store/index.js';
export { checkSetup, type SetupFault } from './setup/check-setup.js';
