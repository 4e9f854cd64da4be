import type { IncludeForm, IncludesForm } from './query-form.js';
import { QueryError } from './tree.js';

/** So deep includes are read; how deep they may be is decided later. */
const MAX_NESTING = 10;
const CLAUSES = ['via', 'by', 'order', 'limit', 'fields', 'where'] as const;
type Clause = (typeof CLAUSES)[number];

/**
 * Parses includes from text: `crew = crews via crewId; flights by balloonId order -start limit 3 { pad = pads via padId
 * }`.
 *
 * Each include has a collection, optionally preceded by a name and `=`, then `via` or `by` with a field, then `order`,
 * `limit`, `fields`, and last `where` with a condition in CQL2. `;` separates includes of one level; braces contain
 * nested ones.
 *
 * @throws {QueryError} with the position in the text
 */
export function parseIncludes(text: string): IncludesForm {
  const reader = new IncludeReader(text);
  const forms = reader.readList(0);
  reader.expectEnd();
  return forms;
}

class IncludeReader {
  #at = 0;
  constructor(readonly text: string) {}

  readList(depth: number): IncludesForm {
    if (depth > MAX_NESTING) throw new QueryError('The includes are nested too deep.', this.#at, '/include');
    const forms: Record<string, IncludeForm> = {};
    do {
      const at = this.#at + this.#rest.search(/\S|$/);
      const [name, form] = this.#readOne(depth);
      if (Object.hasOwn(forms, name)) {
        throw new QueryError(
          `There are two includes named "${name}"; rename one, for example "${name}2 = ${form.from} …".`,
          at,
          '/include',
        );
      }
      // Not by assignment, which some names would not survive.
      Object.defineProperty(forms, name, { value: form, enumerable: true });
    } while (this.#take(/^\s*;\s*(?=[^\s}])/));
    this.#take(/^\s*;?/);
    return forms;
  }

  expectEnd(): void {
    this.#take(/^\s*/);
    if (this.#rest !== '') this.#fail('This is not expected here.', ['the end of the include']);
  }

  get #rest(): string {
    return this.text.slice(this.#at);
  }

  #readOne(depth: number): [string, IncludeForm] {
    const first = this.#word('a collection');
    const named = this.#take(/^\s*=\s*/) !== undefined;
    const from = named ? this.#word('a collection') : first;
    const form: IncludeForm = { from };
    for (let clause = this.#clause(); clause; clause = this.#clause()) {
      if (form[clause] !== undefined) this.#fail(`"${clause}" stands here twice.`, []);
      if (clause === 'limit') form.limit = this.#number();
      else form[clause] = this.#value(clause);
      if (clause === 'where') break;
    }
    if (this.#take(/^\s*\{/) !== undefined) {
      form.include = this.readList(depth + 1);
      if (this.#take(/^\s*\}/) === undefined) this.#fail('A closing brace is missing here.', ['}', ';']);
    } else if (!/^\s*(?:[;}]|$)/.test(this.#rest)) {
      this.#fail('This is not expected here.', [...CLAUSES, '{', ';']);
    }
    return [first, form];
  }

  #clause(): Clause | undefined {
    const found = /^\s*([a-z]+)\b/i.exec(this.#rest);
    const clause = found?.[1]?.toLowerCase() as Clause;
    if (!found || !CLAUSES.includes(clause)) return undefined;
    this.#at += found[0].length;
    return clause;
  }

  #word(what: string): string {
    const found = this.#take(/^\s*[A-Za-z][A-Za-z0-9_-]*/);
    return found?.trim() ?? this.#fail(`Expected ${what} here.`, [what]);
  }

  #number(): number {
    const found = this.#take(/^\s*\d+\b/);
    return Number(found ?? this.#fail('A whole number is missing here.', ['a number']));
  }

  /** Fields continue over commas; a condition up to the next `;`, `{` or `}` outside quotes. */
  #value(clause: Clause): string {
    const name = String.raw`[-+]?\s*(?:(?:"(?:[^"]|"")*"|[^\s;{},"'()])+(?:\(\s*'[^']*'\s*\))?)`;
    const pattern =
      clause === 'where'
        ? /^(?:"(?:[^"]|"")*"|'(?:[^']|'')*'|[^;{}"'])+/
        : new RegExp(`^\\s*${name}(?:\\s*,\\s*${name})*`, 'u');
    const found = this.#take(pattern)?.trim();
    return (
      found || this.#fail(`The value of "${clause}" is missing here.`, [clause === 'where' ? 'a condition' : 'a field'])
    );
  }

  #take(pattern: RegExp): string | undefined {
    const found = pattern.exec(this.#rest)?.[0];
    if (found === undefined) return undefined;
    this.#at += found.length;
    return found;
  }

  #fail(message: string, expected: string[]): never {
    const at = this.#at + this.#rest.search(/\S|$/);
    throw new QueryError(message, at, '/include', expected);
  }
}
