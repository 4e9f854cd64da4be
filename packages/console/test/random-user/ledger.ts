import type { Page } from 'playwright-core';
import type { Store } from '@uproar/client';

/** A typed text that belongs to one document. */
export interface Entry {
  /** Occurs nowhere else. */
  token: string;
  /** `balloons/bl-17` */
  address: string;
  /** `saved`, or `kept` as a draft. Discarded text is not recorded. */
  meant: 'saved' | 'kept';
  how: string;
}

interface JournalPage {
  events: { data: { after: { data: unknown } | null } }[];
  seq: number;
  more: boolean;
}

/** What a random user typed and did not discard. */
export class Ledger {
  readonly entries: Entry[] = [];
  #count = 0;

  constructor(readonly name: string) {}

  /** A text that occurs nowhere else. */
  token(): string {
    return `${this.name}${(++this.#count).toString().padStart(4, '0')}x`;
  }

  /** A number that occurs nowhere else. */
  number(): string {
    return String(7_000_000 + (this.name.charCodeAt(0) % 10) * 100_000 + ++this.#count);
  }

  note(entry: Entry): void {
    this.entries.push(entry);
  }

  /** Removes text that an opened editor offers back, and text that is overwritten or discarded now. */
  replaced(text: string): void {
    for (let at = this.entries.length - 1; at >= 0; at--) {
      if (text.includes(this.entries[at]!.token)) this.entries.splice(at, 1);
    }
  }

  /** Removes the text of a document's open edit that is discarded now. */
  discarded(address: string): void {
    for (let at = this.entries.length - 1; at >= 0; at--) {
      const entry = this.entries[at]!;
      if (entry.address === address && entry.meant === 'kept') this.entries.splice(at, 1);
    }
  }

  /** The lost texts: neither in the journal of their document, nor in a draft of the tab, nor on the page. */
  async findLost(store: Store, page: Page): Promise<string[]> {
    const kept = await page.evaluate(() => Object.values(sessionStorage).join('\n') + document.body.innerText);
    const written = new Map<string, string>();
    const lost: string[] = [];
    for (const { token, address, meant, how } of this.entries) {
      if (kept.includes(token)) continue;
      if (!written.has(address)) written.set(address, await readWritten(store, address));
      if (!written.get(address)!.includes(token)) lost.push(`${token} of ${address} (${how}, ${meant})`);
    }
    return lost;
  }
}

/** Everything that was ever written to a document, as text. */
async function readWritten(store: Store, address: string): Promise<string> {
  const texts: string[] = [];
  let before = 'now';
  for (let page = 0; page < 400; page++) {
    const path = `/v1/journal?doc=${address}&before=${before}&limit=1000`;
    const found = await store.fetch<JournalPage>(path);
    for (const { data } of found.events) texts.push(JSON.stringify(data.after?.data ?? null));
    if (!found.more) break;
    before = String(found.seq);
  }
  return texts.join('\n');
}
