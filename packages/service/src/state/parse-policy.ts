import { PolicyError, readPolicy, type JsonValue, type Policy } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { LineCounter, parseDocument } from 'yaml';

const MAX_CHARACTERS = 512 * 1024;

/**
 * Reads a policy from YAML 1.2, of which JSON is a part.
 *
 * @throws {ProblemError} `bad-policy`, with a pointer into the policy or the place in the text
 */
export function parsePolicy(text: string): Policy {
  if (text.length > MAX_CHARACTERS) {
    throw problemError('bad-policy', `A policy has at most ${MAX_CHARACTERS} characters.`);
  }
  const lines = new LineCounter();
  // Aliases could blow a short text up; a policy has no use for them.
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: true, prettyErrors: false, version: '1.2' });
  const [fault] = document.errors;
  if (fault) {
    const { line, col } = lines.linePos(fault.pos[0]);
    throw problemError('bad-policy', `Line ${line}, column ${col}: ${fault.message}`, { position: fault.pos[0] });
  }
  try {
    return readPolicy((document.toJS({ maxAliasCount: 0 }) ?? {}) as JsonValue);
  } catch (error) {
    if (error instanceof PolicyError) {
      throw problemError('bad-policy', `${error.pointer || '/'}: ${error.message}`, {
        pointer: error.pointer,
        position: error.position,
      });
    }
    throw problemError('bad-policy', `The policy cannot be read: ${(error as Error).message}`);
  }
}
