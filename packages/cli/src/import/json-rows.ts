import { createInterface } from 'node:readline';
import type { Readable } from 'node:stream';
import { isObject, JsonTextError, parseJson } from '@uproar/core';
import { RowError, type Row } from './rows.js';

/** Reads NDJSON: a JSON object on each line that is not blank. */
export async function* readNdjson(input: Readable): AsyncGenerator<Row> {
  let line = 0;
  for await (const text of createInterface({ input, crlfDelay: Infinity })) {
    line++;
    if (text.trim() !== '') yield readRow(line === 1 ? text.replace(/^\uFEFF/, '') : text, line);
  }
}

/**
 * Reads a JSON array of objects, one item at a time. The text is only cut between items here; each item is then
 * parsed as a text of its own, so that it is held to I-JSON and its line is known.
 */
export async function* readJsonArray(input: Readable): AsyncGenerator<Row> {
  const decoder = new TextDecoder('utf-8', { fatal: true });
  let stage: 'start' | 'item' | 'end' = 'start';
  let line = 1;
  let item = '';
  let itemLine = 0;
  let depth = 0;
  let inString = false;
  let escaped = false;
  for await (const chunk of input) {
    for (const character of decoder.decode(chunk as Buffer, { stream: true })) {
      if (character === '\n') line++;
      if (stage === 'start') {
        if (character === '[') stage = 'item';
        else if (character.trim() !== '')
          throw new RowError(line, 'A JSON file must hold an array of objects: [ {…}, {…} ].');
        continue;
      }
      if (stage === 'end') {
        if (character.trim() !== '') throw new RowError(line, 'There is something behind the end of the array.');
        continue;
      }
      const between = depth === 0 && !inString && (character === ',' || character === ']');
      if (!between) {
        if (item === '' && character.trim() === '') continue;
        if (item === '') itemLine = line;
        item += character;
        if (escaped) escaped = false;
        else if (inString && character === '\\') escaped = true;
        else if (character === '"') inString = !inString;
        else if (!inString && (character === '{' || character === '[')) depth++;
        else if (!inString && (character === '}' || character === ']')) depth--;
        continue;
      }
      if (item !== '') yield readRow(item, itemLine);
      else if (character === ',') throw new RowError(line, 'There is a comma with nothing before it.');
      item = '';
      if (character === ']') stage = 'end';
    }
  }
  if (stage !== 'end') throw new RowError(line, 'The file ends before the array does.');
}

function readRow(text: string, line: number): Row {
  try {
    const value = parseJson(text);
    return isObject(value) ? { line, value } : { line, error: 'A document must be a JSON object.' };
  } catch (error) {
    if (error instanceof JsonTextError) return { line, error: error.message };
    throw error;
  }
}
