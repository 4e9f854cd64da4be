/** The values of a line over time, each from the moment it was written until the next. */
export interface LinePoints {
  /** In milliseconds since 1970, ascending. */
  times: number[];
  values: (number | null)[];
}

/** Points of a line that are kept. Older ones are dropped. */
const MOST_POINTS = 2000;

/** What is known of the values of lines over time. Values can arrive in any order: changes as they happen, and earlier ones from the journal. */
export class LineHistory {
  readonly #lines = new Map<string, LinePoints>();

  /** The values of a line. */
  get(line: string): Readonly<LinePoints> {
    return this.#lines.get(line) ?? { times: [], values: [] };
  }

  /** Notes a value that a line has from a moment on; null where it ends. */
  add(line: string, time: number, value: number | null): void {
    let points = this.#lines.get(line);
    if (!points) this.#lines.set(line, (points = { times: [], values: [] }));
    const { times, values } = points;
    let at = times.length;
    while (at > 0 && times[at - 1]! > time) at--;
    if (times[at - 1] === time) {
      values[at - 1] = value;
      return;
    }
    times.splice(at, 0, time);
    values.splice(at, 0, value);
    if (times.length > MOST_POINTS) {
      times.shift();
      values.shift();
    }
  }
}

/** The values of several lines at common times, from a moment until now; a value holds until the next one. */
export function alignLines(
  lines: readonly Readonly<LinePoints>[],
  from: number,
  until: number,
): { times: number[]; values: (number | null)[][] } {
  const times = [
    ...new Set([from, until, ...lines.flatMap((line) => line.times.filter((time) => time > from && time < until))]),
  ].sort((a, b) => a - b);
  const values = lines.map((line) => {
    let at = -1;
    return times.map((time) => {
      while (at + 1 < line.times.length && line.times[at + 1]! <= time) at++;
      return at === -1 ? null : line.values[at]!;
    });
  });
  return { times, values };
}
