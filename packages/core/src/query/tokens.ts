import { QUERY_LIMITS, QueryError } from './tree.js';

/** One word of a condition's text. */
export interface Token {
  kind: 'name' | 'quoted' | 'string' | 'number' | 'sign' | 'end';
  /** The name or the text without quotes, the sign itself, or the digits. */
  text: string;
  at: number;
}

const NAME = /[\p{L}_][\p{L}\p{Nd}_]*/uy;
const NUMBER = /(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?/y;
const SIGN = /<>|<=|>=|[=<>+\-*/%^(),.[\]]/y;
const SPACE = /\s*/y;

/**
 * Cuts the text of a condition into tokens (CQL2, OGC 21-065r2, annex B).
 *
 * @throws {QueryError} with the position of a character that begins nothing, or of a quote that is not closed
 */
export function tokenize(text: string): Token[] {
  if (text.length > QUERY_LIMITS.characters) {
    throw new QueryError(
      `The condition has ${text.length} characters; at most ${QUERY_LIMITS.characters} are allowed.`,
      0,
    );
  }
  const tokens: Token[] = [];
  let at = 0;
  const take = (pattern: RegExp): string | undefined => {
    pattern.lastIndex = at;
    return pattern.exec(text)?.[0];
  };
  for (;;) {
    at += take(SPACE)!.length;
    if (at >= text.length) break;
    const start = at;
    const quote = text[at];
    if (quote === "'" || quote === '"') {
      const { value, end } = readQuoted(text, at, quote);
      tokens.push({ kind: quote === "'" ? 'string' : 'quoted', text: value, at: start });
      at = end;
      continue;
    }
    const name = take(NAME);
    const number = name === undefined ? take(NUMBER) : undefined;
    const found = name ?? number ?? take(SIGN);
    if (found === undefined) {
      throw new QueryError(`The character "${String.fromCodePoint(text.codePointAt(at)!)}" is not allowed here.`, at);
    }
    tokens.push({
      kind: name !== undefined ? 'name' : number !== undefined ? 'number' : 'sign',
      text: found,
      at: start,
    });
    at += found.length;
  }
  tokens.push({ kind: 'end', text: '', at: text.length });
  return tokens;
}

/**
 * A doubled quote stands for one. A backslash is a character like any other, although the standard lets `\'` stand for a quote
 * too: with that, a text that ends with a backslash could not be written, nor safely be quoted.
 */
function readQuoted(text: string, start: number, quote: string): { value: string; end: number } {
  let value = '';
  for (let at = start + 1; at < text.length; at++) {
    const character = text[at]!;
    if (character === quote && text[at + 1] === quote) {
      value += quote;
      at++;
    } else if (character === quote) {
      return { value, end: at + 1 };
    } else {
      value += character;
    }
  }
  throw new QueryError(`This ${quote === "'" ? 'text' : 'name'} is not closed.`, start, undefined, [quote]);
}
