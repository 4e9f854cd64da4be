/** The interval of heartbeats on idle live connections, in milliseconds. */
export const HEARTBEAT_MS = 15_000;
