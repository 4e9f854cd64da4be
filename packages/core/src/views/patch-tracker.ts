import { diff } from '../json/diff.js';
import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import type { JsonPatch } from '../json/json-patch.js';
import { escapeToken } from '../json/pointer.js';

/** Tracks the last reported state of documents, by id, so that patches contain only later changes. */
export class PatchTracker {
  readonly #sent = new Map<string, Document>();
  readonly #touched = new Set<string>();

  /** Records that a document was reported, and that it may have changed since. */
  set(document: Document): void {
    this.#sent.set(document.id, document);
    this.#touched.add(document.id);
  }

  /** Marks a document as possibly changed. */
  touch(id: string): void {
    this.#touched.add(id);
  }

  /** Marks all reported documents as possibly changed. */
  touchAll(): void {
    for (const id of this.#sent.keys()) this.#touched.add(id);
  }

  /** The changes as a patch of the state of a watch; they are then considered as reported. */
  takePatch(current: (id: string) => Document | undefined): JsonPatch {
    const patch: JsonPatch = [];
    for (const id of this.#touched) {
      const [before, after] = [this.#sent.get(id), current(id)];
      const path = `/${escapeToken(id)}`;
      if (before && after) patch.push(...diff(before as never, after as never, path));
      else if (after) patch.push({ op: 'add', path, value: after as unknown as JsonValue });
      else if (before) patch.push({ op: 'remove', path });
      if (after) this.#sent.set(id, after);
      else this.#sent.delete(id);
    }
    this.#touched.clear();
    return patch;
  }
}
