/** Eighths of a line, from low to high. */
const LEVELS = '▁▂▃▄▅▆▇█';

/** The course of numbers as a line of characters between the lowest and the highest. */
export function sparkline(values: readonly number[]): string {
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const levelOf = (value: number) =>
    high === low ? 3 : Math.floor(((value - low) / (high - low)) * (LEVELS.length - 1));
  return values.map((value) => LEVELS[levelOf(value)]).join('');
}

/** The values that are kept of each number. */
const MOST_VALUES = 20;
/** Numbers that are followed at most. */
const MOST_NUMBERS = 5000;

/** The last values of numbers, and which field moves most. */
export class NumberCourses {
  readonly #values = new Map<string, number[]>();
  readonly #changes = new Map<string, number>();

  /** Notes the present values of a document. */
  note(id: string, data: Readonly<Record<string, unknown>>): void {
    for (const [field, value] of Object.entries(data)) {
      if (typeof value !== 'number') continue;
      const key = `${id} ${field}`;
      const known = this.#values.get(key);
      if (!known) {
        if (this.#values.size < MOST_NUMBERS) this.#values.set(key, [value]);
        continue;
      }
      if (known.at(-1) === value) continue;
      known.push(value);
      if (known.length > MOST_VALUES) known.shift();
      this.#changes.set(field, (this.#changes.get(field) ?? 0) + 1);
    }
  }

  /** Forgets a document that is not shown any more. */
  forget(id: string, data: Readonly<Record<string, unknown>>): void {
    for (const field of Object.keys(data)) this.#values.delete(`${id} ${field}`);
  }

  /** The favoured field if it has changed, otherwise the one that has changed most often; undefined before the first change. */
  liveliest(favoured?: string): string | undefined {
    if (favoured !== undefined && this.#changes.has(favoured)) return favoured;
    return [...this.#changes].sort((a, b) => b[1] - a[1])[0]?.[0];
  }

  /** The course of a number as a sparkline; empty while it has not changed. */
  lineOf(id: string, field: string): string {
    const values = this.#values.get(`${id} ${field}`) ?? [];
    return values.length > 1 ? sparkline(values) : '';
  }
}
