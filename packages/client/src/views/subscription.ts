import { compareBy, parseOrder, type Document } from '@uproar/core';
import type { LiveResults, WatchTarget } from '@uproar/protocol';
import { ProblemError } from '@uproar/protocol/problem-error';
import type { Link } from '../transport/link.js';
import { isFinal } from '../transport/problems.js';
import { Scope } from '../outbox/pending.js';
import type { StoredView } from '../storage/storage.js';
import { type DocumentsView, LOADING, patchView, replaceView, type Compare } from './view.js';

/** A store that is busy is asked again after this time, in milliseconds. */
const BUSY_WAIT_MS = 2000;

/**
 * The state of one target, without pending writes, for all watches of it in this client. It survives broken connections
 * and resumes.
 */
export class Subscription {
  readonly target: WatchTarget;
  readonly scope: Scope;
  readonly compare: Compare;
  readonly listeners = new Set<(view: DocumentsView) => void>();
  /** What the service calls this watch on the present connection. */
  name: string | undefined;
  /** Whether it was begun on the present connection. */
  begun = false;
  #base = LOADING;
  /** The documents of the view by id; updated with each change. */
  #state = new Map<string, Document>();
  #resume: string | undefined;
  /** Counts the attempts to begin it. */
  #attempt = 0;
  readonly #link: () => Link;

  constructor(target: WatchTarget, link: () => Link) {
    this.target = target;
    this.scope = new Scope(target);
    this.compare = compareOf(target);
    this.#link = link;
  }

  /** The view without pending writes. */
  get base(): DocumentsView {
    return this.#base;
  }

  /** The last known state of a document. */
  document(id: string): Document | undefined {
    return this.#state.get(id);
  }

  /** The state to keep for the next start; undefined while nothing is known. */
  get stored(): StoredView | undefined {
    const { seq, documents, more, state } = this.#base;
    if (state === 'loading' || state === 'failed') return undefined;
    return { seq, documents: [...documents], more, resume: this.#resume };
  }

  /** Shows the kept state until the store answers. */
  restore(stored: StoredView): void {
    if (this.#base.state !== 'loading') return;
    const { documents, seq, more, resume } = stored;
    this.#resume = resume;
    this.#replace(replaceView(LOADING, documents, seq, more).with({ state: 'stale' }));
  }

  /** Begins on a fresh connection, from where it stood. */
  begin(): void {
    this.name = undefined;
    this.begun = true;
    const attempt = ++this.#attempt;
    const link = this.#link();
    link.request(
      'watch',
      { ...this.target, ...(this.#resume === undefined ? {} : { resume: this.#resume }) },
      (first) => {
        if (this.listeners.size > 0) this.take(first);
        else link.request('unwatch', { watch: first.watch }, ignore, ignore);
      },
      (error) => {
        if (isFinal(error)) this.fail(error);
        else if (error instanceof ProblemError)
          setTimeout(() => this.#attempt === attempt && this.listeners.size > 0 && this.begin(), BUSY_WAIT_MS);
      },
    );
  }

  /** Ends it on the service. */
  end(): void {
    if (this.name === undefined || this.#link().state.name !== 'online') return;
    this.#link().request('unwatch', { watch: this.name }, ignore, ignore);
    this.name = undefined;
  }

  /**
   * Applies the first event of a watch, a change or a reset. An inconsistent state is discarded and requested again.
   */
  take(event: LiveResults['watch']): void {
    this.name = event.watch;
    this.#resume = event.resume;
    if ('documents' in event) {
      this.#replace(replaceView(this.#base, event.documents, event.seq, event.more));
      return;
    }
    let view: DocumentsView;
    try {
      view = patchView(this.#base, this.#state, event.patch, event.seq, this.compare);
    } catch {
      this.#resume = undefined;
      this.begin();
      return;
    }
    this.#show(event.more === undefined ? view : view.with({ more: event.more }));
  }

  /** Marks the view as stale. */
  setStale(): void {
    this.name = undefined;
    this.begun = false;
    if (this.#base.state === 'live') this.#show(this.#base.with({ state: 'stale', changes: [] }));
  }

  /** Shows an error; the next connection tries again. */
  fail(error: ProblemError): void {
    this.begun = false;
    this.#show(this.#base.with({ state: 'failed', changes: [], error: error.problem }));
  }

  #replace(view: DocumentsView): void {
    this.#state = new Map(view.documents.map((document) => [document.id, document]));
    this.#show(view);
  }

  #show(view: DocumentsView): void {
    this.#base = view;
    for (const listener of this.listeners) listener(view);
  }
}

function ignore(): void {}

function compareOf(target: WatchTarget): Compare {
  const { order = '', by = order } = 'query' in target ? target.query : {};
  return compareBy(by ? parseOrder(by) : []);
}
