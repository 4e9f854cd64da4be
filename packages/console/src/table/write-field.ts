import { isProblem, type Document, type JsonPatch, type JsonValue, type Store } from '@uproar/client';
import { deepEqual, formatPointer } from '@uproar/core';
import { valueAt } from './fields';

/** A field of a document. */
export interface FieldAddress {
  readonly collection: string;
  readonly id: string;
  /** Where it stands in the document's data. */
  readonly path: readonly string[];
}

/** What became of the change of a field. `changed`: it holds another value by now. `gone`: the document was deleted. */
export type FieldOutcome = { kind: 'written' } | { kind: 'changed'; value: JsonValue | undefined } | { kind: 'gone' };

/** How often a document is read again that is written all the time. */
const MAX_TRIES = 8;

/**
 * Changes one field of a document from one value to another, and nothing if it holds a third one by now. Undefined stands for a
 * field that is not there.
 *
 * @throws {ProblemError} when the store refuses the write
 * @throws {ConnectionError} when no answer came
 */
export async function writeField(
  store: Store,
  { collection, id, path }: FieldAddress,
  from: JsonValue | undefined,
  to: JsonValue | undefined,
): Promise<FieldOutcome> {
  const documents = store.collection(collection);
  const pointer = formatPointer(path);
  if (from === undefined && to === undefined) return { kind: 'written' };
  const change: JsonPatch = [
    to === undefined ? { op: 'remove', path: pointer } : { op: 'add', path: pointer, value: to },
  ];
  for (let tries = 1; ; tries++) {
    // A JSON Patch cannot test that a field is missing; the version of a document in which it is does that.
    const now = from === undefined ? await documents.get(id) : undefined;
    if (from === undefined) {
      if (!now) return { kind: 'gone' };
      if (valueAt(now.data, path) !== undefined) return compare(now, path, to);
    }
    try {
      if (now) await documents.patch(id, change, { ifVersion: now.version });
      else await documents.patch(id, [{ op: 'test', path: pointer, value: from! }, ...change]);
      return { kind: 'written' };
    } catch (error) {
      if (isProblem(error, 'no-such-document')) return { kind: 'gone' };
      if (isProblem(error, 'test-failed')) {
        const found = await documents.get(id);
        return found ? compare(found, path, to) : { kind: 'gone' };
      }
      if (!isProblem(error, 'version-mismatch') || tries === MAX_TRIES) throw error;
    }
  }
}

/** A field that holds another value than was expected; nothing is left to do if it is the one it should get. */
function compare(document: Document, path: readonly string[], wanted: JsonValue | undefined): FieldOutcome {
  const value = valueAt(document.data, path);
  const same = value === undefined || wanted === undefined ? value === wanted : deepEqual(value, wanted);
  return same ? { kind: 'written' } : { kind: 'changed', value };
}
