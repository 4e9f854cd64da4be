import { PROBLEM_TYPE_PREFIX, ProblemError } from '@uproar/protocol/problem-error';
import type { ProblemName, WireCommit } from '@uproar/protocol';

/** Values nested deeper than this go round in a circle, or come near it. */
const MAX_DEPTH = 200;

/**
 * Refuses a commit that could never be sent as it is: with values that JSON has no form for, which it would silently turn into
 * null or leave out, or with more bytes than the store takes.
 *
 * @throws {ProblemError} `bad-document` with the place, or `too-large`
 */
export function checkSendable(commit: WireCommit, maxBytes: number): void {
  for (const [index, write] of commit.writes.entries()) {
    const pointer = `/writes/${index}`;
    const fault = findUnsendable(write, '', MAX_DEPTH);
    if (fault) throw refusal('bad-document', 422, `${fault.detail} JSON cannot represent it.`, pointer + fault.pointer);
  }
  const text = JSON.stringify(commit);
  // A character takes at most three bytes.
  if (text.length * 3 <= maxBytes) return;
  const bytes = new TextEncoder().encode(text).length;
  if (bytes <= maxBytes) return;
  throw refusal('too-large', 413, `The commit takes ${bytes} bytes; the store accepts at most ${maxBytes}. Split it.`);
}

function refusal(name: ProblemName, status: number, detail: string, pointer?: string): ProblemError {
  const title = 'The commit cannot be sent';
  return new ProblemError({ type: PROBLEM_TYPE_PREFIX + name, title, status, detail, ...(pointer ? { pointer } : {}) });
}

function findUnsendable(
  value: unknown,
  pointer: string,
  depth: number,
): { pointer: string; detail: string } | undefined {
  const fault = (what: string) => ({ pointer, detail: `There is ${what} at "${pointer}".` });
  if (typeof value === 'number') return Number.isFinite(value) ? undefined : fault(String(value));
  if (typeof value === 'object' && value !== null) {
    if (typeof (value as { toJSON?: unknown }).toJSON === 'function') return undefined;
    const kind = Object.prototype.toString.call(value).slice(8, -1);
    if (kind !== 'Object' && kind !== 'Array') return fault(`a ${kind}`);
    if (depth === 0) return fault('a value that is nested too deep');
    for (const [name, inner] of Object.entries(value)) {
      // A member that is undefined is left out, as is usual; an item would become null.
      if (inner === undefined && kind === 'Object') continue;
      const found = findUnsendable(inner, `${pointer}/${name}`, depth - 1);
      if (found) return found;
    }
    return undefined;
  }
  return typeof value === 'string' || typeof value === 'boolean' || value === null ? undefined : fault(typeof value);
}
