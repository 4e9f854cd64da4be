import { readFileSync } from 'node:fs';
import { isObject, JsonTextError, parseJson, type JsonObject } from '@uproar/core';
import { CommandError, EXIT } from '../output/exit-codes.js';

/**
 * Reads a JSON object given as an argument, `@file` for a file, or `-` for standard input.
 *
 * @throws {CommandError} that shows the place of a mistake
 */
export function readData(argument: string): JsonObject {
  const text =
    argument === '-' ? readFileSync(0, 'utf8') : argument.startsWith('@') ? readFile(argument.slice(1)) : argument;
  return parseObject(text, "A document's data");
}

/**
 * Parses a JSON object.
 *
 * @param what the name of the value, for the message
 * @throws {CommandError} that shows the place of the error
 */
export function parseObject(text: string, what: string): JsonObject {
  let value;
  try {
    value = parseJson(text);
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    throw new CommandError(`${error.message}\n${markPosition(text, error.position)}`, EXIT.usage);
  }
  if (!isObject(value)) throw new CommandError(`${what} must be a JSON object, like {"name":"Amber"}.`, EXIT.usage);
  return value;
}

/** Reads a text file. */
export function readFile(path: string): string {
  try {
    return readFileSync(path, 'utf8');
  } catch (error) {
    throw new CommandError(`${path} cannot be read (${(error as NodeJS.ErrnoException).code}).`, EXIT.usage);
  }
}

/** The line of `text` in which `position` lies, with a caret under it. */
export function markPosition(text: string, position: number): string {
  const start = text.lastIndexOf('\n', position - 1) + 1;
  const end = text.indexOf('\n', position);
  const from = Math.max(start, position - 60);
  const line = text.slice(from, Math.min(end === -1 ? text.length : end, position + 40));
  return `      ${line}\n      ${' '.repeat(position - from)}^`;
}
