import { COLLECTION, GEOMETRIES, geometryWord } from './geometry-words.js';
import { findOperator, isCondition, type Operator } from './operators.js';
import { readInstant } from './read-instant.js';
import { asGeometry } from './spatial.js';
import { tokenize, type Token } from './tokens.js';
import { QUERY_LIMITS, QueryError, type Geometry, type Node } from './tree.js';

const COMPARISONS = new Set(['=', '<>', '<', '>', '<=', '>=']);
const RESERVED = new Set(['AND', 'OR', 'NOT', 'IS', 'NULL', 'LIKE', 'BETWEEN', 'IN', 'TRUE', 'FALSE', 'DIV']);

/**
 * Parses a condition in CQL2 text (OGC 21-065r2, annex B).
 *
 * @throws {QueryError} with the position, the expected tokens, and similar names
 */
export function parseText(text: string): Node {
  return new Parser(text).parse();
}

/**
 * Reads an expression for any value, such as `round(altitude / 0.3048)`, in the same language.
 *
 * @throws {QueryError} with the position
 */
export function parseExpression(text: string): Node {
  return new Parser(text).parse(false);
}

class Parser {
  readonly #tokens: Token[];
  #index = 0;
  #nodes = 0;
  #depth = 0;
  /** Nodes that stood in parentheses of their own: where a list is wanted, that is a list of one. */
  readonly #bracketed = new WeakSet<Node>();

  constructor(text: string) {
    this.#tokens = tokenize(text);
  }

  /** @param asCondition whether it must give true or false */
  parse(asCondition = true): Node {
    if (this.#next.kind === 'end') throw this.#fail('The condition is empty.', ['a condition']);
    const first = this.#or();
    const node = asCondition ? this.#condition(first) : first;
    const { kind, text } = this.#tokens[this.#index]!;
    if (kind === 'end') return node;
    throw this.#fail(`The condition is complete before "${text}".`, ['AND', 'OR', 'the end of the condition']);
  }

  get #next(): Token {
    return this.#tokens[this.#index]!;
  }

  #or(): Node {
    return this.#nested(() => this.#joined('OR', 'or', () => this.#joined('AND', 'and', () => this.#not())));
  }

  #joined(word: string, name: string, operand: () => Node): Node {
    const first = operand();
    if (!this.#isWord(word)) return first;
    const args = [this.#condition(first)];
    while (this.#takeWord(word)) args.push(this.#condition(operand()));
    return this.#node({ kind: 'call', name, args, at: first.at });
  }

  #not(): Node {
    const { at } = this.#next;
    if (!this.#takeWord('NOT')) return this.#predicate();
    return this.#nested(() => this.#node({ kind: 'call', name: 'not', args: [this.#condition(this.#not())], at }));
  }

  #predicate(): Node {
    const left = this.#sum();
    const { at, text, kind } = this.#next;
    if (kind === 'sign' && COMPARISONS.has(text)) {
      this.#index++;
      return this.#node({ kind: 'call', name: text, args: [left, this.#sum()], at: left.at });
    }
    if (this.#takeWord('IS')) {
      const negated = this.#takeWord('NOT');
      this.#expectWord('NULL');
      return this.#negate(negated, { kind: 'call', name: 'isNull', args: [left], at: left.at });
    }
    const negated = this.#isWord('NOT') && this.#takeWord('NOT');
    if (this.#takeWord('LIKE'))
      return this.#negate(negated, { kind: 'call', name: 'like', args: [left, this.#sum()], at: left.at });
    if (this.#takeWord('BETWEEN')) {
      const low = this.#sum();
      this.#expectWord('AND');
      return this.#negate(negated, { kind: 'call', name: 'between', args: [left, low, this.#sum()], at: left.at });
    }
    if (this.#takeWord('IN')) {
      return this.#negate(negated, { kind: 'call', name: 'in', args: [left, this.#list()], at: left.at });
    }
    if (negated) throw this.#fail('This cannot follow NOT.', ['LIKE', 'BETWEEN', 'IN'], at);
    return left;
  }

  #negate(negated: boolean, node: Node): Node {
    this.#node(node);
    return negated ? this.#node({ kind: 'call', name: 'not', args: [node], at: node.at }) : node;
  }

  #list(): Node {
    const { at } = this.#next;
    this.#expectSign('(');
    const items = this.#items(')');
    if (items.length === 0) throw this.#fail('A list for IN needs at least one value.', ['a value'], at);
    return this.#node({ kind: 'array', items, at });
  }

  /** Values with commas between them, up to the closing sign, which is taken too. */
  #items(close: string): Node[] {
    const items: Node[] = [];
    if (this.#takeSign(close)) return items;
    do items.push(this.#or());
    while (this.#takeSign(','));
    this.#expectSign(close, ['","']);
    return items;
  }

  #sum(): Node {
    return this.#chain(['+', '-'], () => this.#chain(['*', '/', '%', 'DIV'], () => this.#power()));
  }

  #chain(names: readonly string[], operand: () => Node): Node {
    let left = operand();
    for (;;) {
      const { kind, text } = this.#next;
      const name =
        kind === 'sign' || kind === 'name' ? names.find((candidate) => candidate === text.toUpperCase()) : undefined;
      if (name === undefined) return left;
      this.#index++;
      left = this.#node({ kind: 'call', name: name.toLowerCase(), args: [left, operand()], at: left.at });
    }
  }

  #power(): Node {
    const base = this.#unary();
    if (!this.#takeSign('^')) return base;
    return this.#nested(() => this.#node({ kind: 'call', name: '^', args: [base, this.#power()], at: base.at }));
  }

  #unary(): Node {
    const { at } = this.#next;
    if (!this.#takeSign('-')) {
      this.#takeSign('+');
      return this.#primary();
    }
    const operand = this.#nested(() => this.#unary());
    if (operand.kind === 'literal' && typeof operand.value === 'number')
      return { kind: 'literal', value: -operand.value, at };
    return this.#node({ kind: 'call', name: '-', args: [{ kind: 'literal', value: 0, at }, operand], at });
  }

  #primary(): Node {
    const token = this.#next;
    const { kind, text, at } = token;
    if (kind === 'string') {
      this.#index++;
      return this.#node({ kind: 'literal', value: text, at });
    }
    if (kind === 'number') {
      this.#index++;
      if (!Number.isFinite(Number(text))) throw this.#fail(`The number ${text} is too large.`, [], at);
      return this.#node({ kind: 'literal', value: Number(text), at });
    }
    if (kind === 'sign' && (text === '(' || text === '[')) return this.#brackets(text === '(' ? ')' : ']');
    if (kind === 'quoted') return this.#property();
    if (kind !== 'name') {
      throw this.#fail(kind === 'end' ? 'The condition is incomplete.' : `"${text}" is not expected here.`, [
        'a field',
        'a value',
        '"("',
      ]);
    }
    const word = text.toUpperCase();
    if (word === 'TRUE' || word === 'FALSE') {
      this.#index++;
      return this.#node({ kind: 'literal', value: word === 'TRUE', at });
    }
    if (word === 'NULL') throw this.#fail('NULL cannot be compared. Use IS NULL or IS NOT NULL.', ['a value'], at);
    if (RESERVED.has(word)) throw this.#fail(`"${text}" is not expected here.`, ['a field', 'a value', '"("']);
    if (geometryWord(word) !== undefined) {
      if (this.#after(1, '(') || ['Z', 'M', 'ZM'].includes(this.#tokens[this.#index + 1]!.text.toUpperCase())) {
        return this.#node({ kind: 'geometry', geometry: this.#geometry(), at });
      }
    }
    return this.#after(1, '(') ? this.#call(token) : this.#property();
  }

  #brackets(close: string): Node {
    const { at } = this.#next;
    this.#index++;
    return this.#nested(() => {
      const items = this.#items(close);
      if (close === ']' || items.length !== 1) return this.#node({ kind: 'array', items, at });
      this.#bracketed.add(items[0]!);
      return items[0]!;
    });
  }

  #property(): Node {
    const { at } = this.#next;
    const path: string[] = [];
    do {
      const { kind, text } = this.#next;
      if (kind !== 'name' && kind !== 'quoted') throw this.#fail('A name was expected after the dot.', ['a name']);
      this.#index++;
      // A dot within quotes is a part of the name.
      path.push(text);
    } while (this.#takeSign('.'));
    return this.#node({ kind: 'property', path, at });
  }

  #call({ text, at }: Token): Node {
    const word = text.toUpperCase();
    this.#index += 2;
    if (word === 'DATE' || word === 'TIMESTAMP') return this.#instant(word, at);
    if (word === 'INTERVAL') return this.#interval(at);
    if (word === 'BBOX') return this.#box(at);
    const operator = findOperator(text, at);
    const args = this.#nested(() => this.#items(')'));
    return this.#node({ kind: 'call', name: operator.name, args: this.#checkArguments(operator, args, at), at });
  }

  #checkArguments(operator: Operator, args: Node[], at: number): Node[] {
    const [fewest, most] = operator.args;
    if (args.length < fewest || args.length > most) {
      const wanted = fewest === most ? String(fewest) : `${fewest} to ${most}`;
      throw this.#fail(`${operator.name} takes ${wanted} arguments, not ${args.length}.`, [], at);
    }
    if (operator.takes !== 'array') return args;
    return args.map((node) =>
      node.kind !== 'array' && this.#bracketed.has(node)
        ? this.#node({ kind: 'array', items: [node], at: node.at })
        : node,
    );
  }

  #instant(word: 'DATE' | 'TIMESTAMP', at: number): Node {
    const { kind, text, at: textAt } = this.#next;
    if (kind !== 'string') throw this.#fail(`${word} needs a string in single quotes.`, ['a text'], textAt);
    this.#index++;
    this.#expectSign(')');
    return this.#node({ ...readInstant(word, text, textAt), at });
  }

  #interval(at: number): Node {
    const end = (): Node | undefined => {
      const { kind, text, at: textAt } = this.#next;
      if (kind !== 'string') return this.#or();
      this.#index++;
      return text === '..' ? undefined : readInstant(undefined, text, textAt);
    };
    const from = end();
    this.#expectSign(',');
    const to = end();
    this.#expectSign(')');
    return this.#node({ kind: 'interval', from, to, at });
  }

  #box(at: number): Node {
    const box: number[] = [];
    do box.push(this.#number());
    while (this.#takeSign(','));
    this.#expectSign(')', ['","']);
    if (box.length !== 4 && box.length !== 6) throw this.#fail(`BBOX needs 4 or 6 numbers, not ${box.length}.`, [], at);
    return this.#node({ kind: 'bbox', box, at });
  }

  /** A geometry as well-known text (OGC 06-103r4, section 7). */
  #geometry(): Geometry {
    const { text, at } = this.#next;
    this.#index++;
    const word = geometryWord(text.toUpperCase())!;
    if (['Z', 'M', 'ZM'].includes(this.#next.text.toUpperCase())) this.#index++;
    this.#expectSign('(');
    let geometry: Geometry;
    if (word === COLLECTION) {
      const geometries: Geometry[] = [];
      do {
        const inner = geometryWord(this.#next.text.toUpperCase());
        if (inner === undefined || inner === COLLECTION)
          throw this.#fail('A geometry was expected.', Object.keys(GEOMETRIES));
        geometries.push(this.#geometry());
      } while (this.#takeSign(','));
      this.#expectSign(')', ['","']);
      geometry = { type: 'GeometryCollection', geometries };
    } else {
      const { type, depth } = GEOMETRIES[word]!;
      geometry = { type, coordinates: this.#coordinates(depth, type === 'MultiPoint') as never };
    }
    if (!asGeometry(geometry as never)) {
      throw this.#fail(
        `This is not a valid ${geometry.type}: lines need at least two positions, and rings must be closed.`,
        [],
        at,
      );
    }
    return geometry;
  }

  /** The inside of parentheses, and the closing one. */
  #coordinates(depth: number, pointsMayHaveParentheses = false): unknown[] {
    const items: unknown[] = [];
    do {
      if (depth > 1) {
        this.#expectSign('(');
        items.push(this.#coordinates(depth - 1));
      } else if (pointsMayHaveParentheses && this.#takeSign('(')) {
        items.push(this.#position());
        this.#expectSign(')');
      } else items.push(this.#position());
    } while (depth > 0 && this.#takeSign(','));
    this.#expectSign(')', depth > 0 ? ['","'] : ['a number']);
    return depth === 0 ? (items[0] as unknown[]) : items;
  }

  #position(): number[] {
    const position: number[] = [];
    do position.push(this.#number());
    while (this.#next.kind === 'number' || (this.#next.kind === 'sign' && ['-', '+'].includes(this.#next.text)));
    if (position.length < 2 || position.length > 4)
      throw this.#fail('A position has two numbers, or three with a height.', ['a number']);
    return position;
  }

  #number(): number {
    const sign = this.#takeSign('-') ? -1 : 1;
    if (sign === 1) this.#takeSign('+');
    const { kind, text } = this.#next;
    if (kind !== 'number') throw this.#fail('A number was expected.', ['a number']);
    this.#index++;
    return sign * Number(text);
  }

  #condition(node: Node): Node {
    if (isCondition(node)) return node;
    const what = node.kind === 'property' ? `"${node.path.join('.')}" is a field` : 'This is a value';
    throw this.#fail(`${what}, not a condition; compare it with something.`, [
      '=',
      '<>',
      '<',
      '>',
      'LIKE',
      'IN',
      'BETWEEN',
      'IS NULL',
    ]);
  }

  #nested<Result>(parse: () => Result): Result {
    if (++this.#depth > QUERY_LIMITS.depth * 3) {
      throw this.#fail(`The condition is nested deeper than ${QUERY_LIMITS.depth} levels.`, []);
    }
    const result = parse();
    this.#depth--;
    return result;
  }

  #node<Kind extends Node>(node: Kind): Kind {
    if (++this.#nodes > QUERY_LIMITS.nodes) {
      throw this.#fail(`The condition has more than ${QUERY_LIMITS.nodes} parts. Use several queries.`, []);
    }
    return node;
  }

  #isWord(word: string): boolean {
    return this.#next.kind === 'name' && this.#next.text.toUpperCase() === word;
  }

  #takeWord(word: string): boolean {
    if (!this.#isWord(word)) return false;
    this.#index++;
    return true;
  }

  #expectWord(word: string): void {
    if (!this.#takeWord(word)) throw this.#fail(`${word} was expected here.`, [word]);
  }

  #takeSign(sign: string): boolean {
    if (this.#next.kind !== 'sign' || this.#next.text !== sign) return false;
    this.#index++;
    return true;
  }

  #expectSign(sign: string, alsoExpected: string[] = []): void {
    if (!this.#takeSign(sign)) throw this.#fail(`"${sign}" was expected here.`, [`"${sign}"`, ...alsoExpected]);
  }

  #after(offset: number, sign: string): boolean {
    const token = this.#tokens[this.#index + offset];
    return token?.kind === 'sign' && token.text === sign;
  }

  #fail(message: string, expected: string[], at = this.#next.at): QueryError {
    return new QueryError(message, at, undefined, expected);
  }
}
