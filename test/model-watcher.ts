import { expect } from 'chai';
import jsonPatch from 'fast-json-patch';
import type { LiveEvent } from '../packages/service/dist/live/live-event.js';
import type { Subscription } from '../packages/service/dist/live/subscription.js';

/** A client that watches a query and keeps a copy by applying patches; sometimes slow, sometimes disconnected. */
export class ModelWatcher<Query extends { form: { ordered?: boolean } }> {
  state: Record<string, { id: string }> = {};
  /** The ids in order, where the watch carries them. */
  ids: string[] = [];
  seq = -1;
  more = false;
  full = false;
  resume: string | undefined;
  subscription: Subscription | undefined;
  resets = 0;
  constructor(readonly query: Query) {}

  readonly take = (event: LiveEvent): void => {
    const data = JSON.parse(`{${event.members}}`) as {
      seq: number;
      documents?: { id: string }[];
      patch?: never[];
      more?: boolean;
    };
    expect(data.seq, 'seq only grows').to.be.at.least(this.seq);
    if (event.name === 'reset') this.resets++;
    if (data.documents) {
      this.state = Object.fromEntries(data.documents.map((document) => [document.id, document]));
      this.ids = data.documents.map(({ id }) => id);
    } else if (this.query.form.ordered) {
      const ordered = { documents: this.state, ids: this.ids };
      const patched = jsonPatch.applyPatch(ordered, data.patch!, true, false).newDocument;
      [this.state, this.ids] = [patched.documents, patched.ids];
    } else this.state = jsonPatch.applyPatch(this.state, data.patch!, true, false).newDocument;
    this.more = data.more ?? this.more;
    this.seq = data.seq;
    this.resume = event.resume;
  };

  send(event: LiveEvent): void {
    this.take(event);
  }

  /** Reads on after a while, if it was slow. */
  async readOn(): Promise<void> {
    if (!this.full) return;
    this.full = false;
    await this.subscription?.catchUp();
  }

  /** Waits until no event is in flight. */
  async settle(): Promise<void> {
    const { subscription } = this;
    const unsettled = () => subscription && (subscription.behind || subscription.view.settled);
    for (let n = 0; n < 100 && !this.full && unsettled(); n++) await new Promise((resolve) => setImmediate(resolve));
  }
}
