import { diff } from '../json/diff.js';
import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import type { JsonPatch } from '../json/json-patch.js';
import { escapeToken } from '../json/pointer.js';

/** What was told of documents last, by id, so that only what has altered since is told. */
export class PatchTracker {
  readonly #told = new Map<string, Document>();
  readonly #touched = new Set<string>();

  /** Notes that a document was told as it is, and that it may have altered since. */
  tell(document: Document): void {
    this.#told.set(document.id, document);
    this.#touched.add(document.id);
  }

  /** Notes that a document may have altered. */
  touch(id: string): void {
    this.#touched.add(id);
  }

  /** Notes that everything that was told may have altered. */
  touchAll(): void {
    for (const id of this.#told.keys()) this.#touched.add(id);
  }

  /** What has altered, as a patch of the state of a watch; from now on that is what was told. */
  takePatch(current: (id: string) => Document | undefined): JsonPatch {
    const patch: JsonPatch = [];
    for (const id of this.#touched) {
      const [before, after] = [this.#told.get(id), current(id)];
      const path = `/${escapeToken(id)}`;
      if (before && after) patch.push(...diff(before as never, after as never, path));
      else if (after) patch.push({ op: 'add', path, value: after as unknown as JsonValue });
      else if (before) patch.push({ op: 'remove', path });
      if (after) this.#told.set(id, after);
      else this.#told.delete(id);
    }
    this.#touched.clear();
    return patch;
  }
}
