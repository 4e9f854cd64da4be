import type { JsonPatch } from '@uproar/core';

/** What a watch begins with or is set back to: the JSON texts of its documents, in order. */
export interface FullState {
  seq: number;
  documents: string[];
  more: boolean;
}

/** Encodes an event for a transport. */
export type EventEncoder = (event: LiveEvent) => Buffer;

/** One event of a view, sent to every connection that watches it. */
export class LiveEvent {
  readonly #encoded = new Map<EventEncoder, Buffer>();
  #sizeBytes: number | undefined;

  private constructor(
    readonly name: 'result' | 'change' | 'reset',
    readonly watch: string,
    readonly seq: number,
    /** The point to resume from after this event. */
    readonly resume: string,
    /** The members of the event as JSON text, without the braces around them. */
    readonly members: string,
    /** True for a change with an empty patch. */
    readonly empty = false,
  ) {}

  /** The first event of a watch, or one that says: forget what you had. */
  static full(name: 'result' | 'reset', watch: string, resume: string, state: FullState): LiveEvent {
    const members = `"seq":${state.seq},"documents":[${state.documents.join(',')}],"more":${state.more}`;
    return new LiveEvent(name, watch, state.seq, resume, members);
  }

  /** An event that changes the state. An empty patch only says that the state still holds at `seq`. */
  static change(watch: string, resume: string, seq: number, patch: JsonPatch, more?: boolean): LiveEvent {
    const members = `"seq":${seq},"patch":${JSON.stringify(patch)}${more === undefined ? '' : `,"more":${more}`}`;
    return new LiveEvent('change', watch, seq, resume, members, patch.length === 0 && more === undefined);
  }

  /** The size of the event without the frame of a transport, in bytes. */
  get sizeBytes(): number {
    this.#sizeBytes ??= Buffer.byteLength(this.members);
    return this.#sizeBytes;
  }

  /** The bytes of the event for one transport. They are made once, however many connections they go to. */
  encodedBy(encoder: EventEncoder): Buffer {
    let bytes = this.#encoded.get(encoder);
    if (!bytes) this.#encoded.set(encoder, (bytes = encoder(this)));
    return bytes;
  }
}
