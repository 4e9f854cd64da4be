/** The interval of heartbeats on idle live connections, in milliseconds. */
export const HEARTBEAT_MS = 15_000;

/** A larger difference of two clocks is reported, in milliseconds. */
export const CLOCK_DIFFERENCE_MS = 2000;

/** A node of a cluster that has not reported for this time may be lost, in milliseconds. */
export const SILENT_AFTER_MS = 3000;
