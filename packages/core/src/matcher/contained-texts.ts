import { ItemsByKey } from './items-by-key.js';

/** Of longer texts, a part of this length is looked for, in UTF-16 code units. */
const LONGEST = 8;

/** In texts longer than this, in UTF-16 code units, nothing is looked for: the caller tests each item. */
const LONGEST_SEARCHED = 8192;

/** Looking for texts of one length costs about as much as testing this many items. */
const WORTH_ITEMS = 10;

/**
 * Finds, among very many texts, those that another text contains. Each is known by a part of it, and the parts are looked
 * up at every place of the other text.
 */
export class ContainedTexts<Item> {
  readonly #byLength = new Map<number, ItemsByKey<string, Item>>();
  /** The part that each item is known by, for each of its texts. */
  readonly #parts = new Map<Item, Map<string, string>>();

  /** How many items are known by the same part as this text would be. */
  crowd(text: string): number {
    const part = this.#rarestPart(text);
    return this.#byLength.get(part.length)?.count(part) ?? 0;
  }

  add(text: string, item: Item): void {
    const part = this.#rarestPart(text);
    let parts = this.#byLength.get(part.length);
    if (!parts) this.#byLength.set(part.length, (parts = new ItemsByKey()));
    parts.add(part, item);
    const known = this.#parts.get(item);
    if (known) known.set(text, part);
    else this.#parts.set(item, new Map([[text, part]]));
  }

  remove(text: string, item: Item): void {
    const known = this.#parts.get(item);
    const part = known?.get(text);
    if (!known || part === undefined) return;
    known.delete(text);
    if (known.size === 0) this.#parts.delete(item);
    // Another text of the item may be known by the same part.
    if ([...known.values()].includes(part)) return;
    const parts = this.#byLength.get(part.length)!;
    parts.remove(part, item);
    if (parts.size === 0) this.#byLength.delete(part.length);
  }

  /** Calls `found` for each item with a text that `text` may contain; perhaps more than once. */
  find(text: string, found: (item: Item) => void): void {
    if (text.length > LONGEST_SEARCHED || this.#parts.size < WORTH_ITEMS * this.#byLength.size) {
      for (const item of this.#parts.keys()) found(item);
      return;
    }
    for (const [length, parts] of this.#byLength) {
      for (let at = 0; at + length <= text.length; at++) parts.find(text.slice(at, at + length), found);
    }
  }

  /** Of the beginning, the middle and the end, the part that the fewest items are known by. */
  #rarestPart(text: string): string {
    if (text.length <= LONGEST) return text;
    const last = text.length - LONGEST;
    const parts = [0, last >> 1, last].map((at) => text.slice(at, at + LONGEST));
    const known = this.#byLength.get(LONGEST);
    const crowdOf = (part: string) => known?.count(part) ?? 0;
    return parts.reduce((rarest, part) => (crowdOf(part) < crowdOf(rarest) ? part : rarest));
  }
}
