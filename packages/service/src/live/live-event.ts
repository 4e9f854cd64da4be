import type { JsonPatch } from '@uproar/core';
import { frameText } from './frame.js';

/** What a watch begins with or is set back to: the JSON texts of its documents, in order. */
export interface FullState {
  seq: number;
  documents: string[];
  more: boolean;
}

/**
 * One event of a view, to be sent to everybody who watches it. Each transport's bytes are made at most once,
 * however many connections they go to.
 */
export class LiveEvent {
  #sse: Buffer | undefined;
  #frame: Buffer | undefined;

  private constructor(
    readonly name: 'result' | 'change' | 'reset',
    readonly watch: string,
    readonly seq: number,
    /** The point to resume from after this event. */
    readonly resume: string,
    /** The members of the event as JSON text, without the braces around them. */
    readonly members: string,
    /** True for a change that alters nothing. */
    readonly empty = false,
  ) {}

  /** The first event of a watch, or one that says: forget what you had. */
  static full(name: 'result' | 'reset', watch: string, resume: string, state: FullState): LiveEvent {
    const members = `"seq":${state.seq},"documents":[${state.documents.join(',')}],"more":${state.more}`;
    return new LiveEvent(name, watch, state.seq, resume, members);
  }

  /** An event that alters the state. An empty patch says only that the state still holds at `seq`. */
  static change(watch: string, resume: string, seq: number, patch: JsonPatch, more?: boolean): LiveEvent {
    const members = `"seq":${seq},"patch":${JSON.stringify(patch)}${more === undefined ? '' : `,"more":${more}`}`;
    return new LiveEvent('change', watch, seq, resume, members, patch.length === 0 && more === undefined);
  }

  /** The event as a block of an event stream (HTML Standard, section 9.2). */
  get sse(): Buffer {
    this.#sse ??= Buffer.from(`event: ${this.name}\nid: ${this.resume}\ndata: {${this.members}}\n\n`);
    return this.#sse;
  }

  /** The event as a JSON-RPC 2.0 notification, in a WebSocket frame. */
  get frame(): Buffer {
    this.#frame ??= frameText(
      Buffer.from(
        `{"jsonrpc":"2.0","method":"${this.name}","params":{"watch":"${this.watch}","resume":"${this.resume}",${this.members}}}`,
      ),
    );
    return this.#frame;
  }

  /** A reset as a JSON-RPC 2.0 notification to somebody who knows the watch by another name. */
  renamed(was: string): string {
    return `{"jsonrpc":"2.0","method":"reset","params":{"watch":"${this.watch}","was":"${was}","resume":"${this.resume}",${this.members}}}`;
  }

  /** The event as the `result` of a JSON-RPC 2.0 call of `watch`. */
  get answer(): string {
    return `{"watch":"${this.watch}","resume":"${this.resume}",${this.members}}`;
  }
}
