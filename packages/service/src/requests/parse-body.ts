import { JsonTextError, parseJson } from '@uproar/core';
import { problemError } from '@uproar/protocol';

/** The bytes that a request may have around the commit in it. */
export const ENVELOPE_BYTES = 64 * 1024;

const UTF8 = new TextDecoder('utf-8', { fatal: true, ignoreBOM: false });

/**
 * Reads a JSON text from bytes.
 *
 * @throws {ProblemError} `bad-json`, with the position where it shows
 */
export function parseBody(body: Uint8Array): unknown {
  let text: string;
  try {
    text = UTF8.decode(body);
  } catch {
    throw problemError('bad-json', 'The body is not valid UTF-8.');
  }
  try {
    return parseJson(text);
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    throw problemError('bad-json', error.message, { position: error.position });
  }
}
