/** A number of bytes for people: `12.4 MB`. */
export function formatBytes(bytes: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let value = bytes;
  let unit = 0;
  for (; value >= 1000 && unit < units.length - 1; unit++) value /= 1000;
  return `${unit === 0 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`;
}

/** How long something takes, or is still to last, for people: `2 h 5 min`. */
export function formatDuration(durationMs: number): string {
  const seconds = Math.max(0, Math.round(durationMs / 1000));
  if (seconds < 120) return `${seconds} s`;
  const minutes = Math.round(seconds / 60);
  if (minutes < 120) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  if (hours >= 48) return `${Math.round(hours / 24)} days`;
  return minutes % 60 === 0 ? `${hours} h` : `${hours} h ${minutes % 60} min`;
}

/** Milliseconds for people: `0.21 ms`, `340 ms`, `2.4 s`. */
export function formatMs(milliseconds: number): string {
  if (milliseconds >= 1000) return `${(milliseconds / 1000).toFixed(1)} s`;
  return `${milliseconds >= 100 ? Math.round(milliseconds) : Number(milliseconds.toPrecision(2))} ms`;
}
