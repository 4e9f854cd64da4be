/** How often an idle live connection hears from the service, in milliseconds. */
export const HEARTBEAT_MS = 15_000;
