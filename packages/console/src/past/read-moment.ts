/**
 * Reads a seq or a time that a person typed: `1204`, `14:30`, `14:30:05`, or a date with or without a time, in their own zone.
 *
 * @returns undefined if it is neither
 */
export function readMoment(text: string, now: Date): { seq: number } | { time: number } | undefined {
  const trimmed = text.trim();
  if (/^\d+$|^\d{1,3}([.,' ]\d{3})+$/.test(trimmed)) {
    const digits = trimmed.replace(/\D/g, '');
    return digits === '' || digits.length > 15 ? undefined : { seq: Number(digits) };
  }
  const clock = /^(\d{1,2}):(\d{2})(?::(\d{2}))?$/.exec(trimmed);
  if (clock) {
    const [hours, minutes, seconds] = [Number(clock[1]), Number(clock[2]), Number(clock[3] ?? 0)];
    if (hours > 23 || minutes > 59 || seconds > 59) return undefined;
    const time = new Date(now);
    time.setHours(hours, minutes, seconds, 0);
    // A time of today that is still to come was meant as one of yesterday.
    if (time > now) time.setDate(time.getDate() - 1);
    return { time: time.getTime() };
  }
  if (!/^\d{4}-\d{2}-\d{2}([T ].*)?$/.test(trimmed)) return undefined;
  const time = Date.parse(trimmed.length === 10 ? `${trimmed}T00:00` : trimmed.replace(' ', 'T'));
  return Number.isNaN(time) ? undefined : { time };
}
