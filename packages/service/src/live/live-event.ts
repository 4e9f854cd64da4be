import { exceedsSize, type JsonPatch, type JsonValue } from '@uproar/core';
import { tooManyBytes } from '../limits/costs.js';

/** What a watch begins with or is set back to: the JSON texts of its documents, in order. */
export interface FullState {
  seq: number;
  documents: string[];
  more: boolean;
}

/** From this length, in UTF-16 code units, a state is encoded once for all. */
const WORTH_SHARING = 16 * 1024;

/** The members `documents` and `more` of a full state as JSON text, for all events that carry them. */
export class StateText {
  readonly text: string;
  #encoded: Map<(text: string) => Buffer, Buffer> | undefined;
  #sizeBytes: number | undefined;

  constructor({ documents, more }: FullState) {
    this.text = `"documents":[${documents.join(',')}],"more":${more}`;
  }

  get sizeBytes(): number {
    this.#sizeBytes ??= Buffer.byteLength(this.text);
    return this.#sizeBytes;
  }

  /** Whether it is so large that events should share its bytes. Smaller ones are encoded again as fast. */
  get isWorthSharing(): boolean {
    return this.text.length > WORTH_SHARING;
  }

  /** Its bytes in one encoding. They are made once, however many connections they go to. */
  encodedBy(encode: (text: string) => Buffer): Buffer {
    this.#encoded ??= new Map();
    let bytes = this.#encoded.get(encode);
    if (!bytes) this.#encoded.set(encode, (bytes = encode(this.text)));
    return bytes;
  }
}

/** The JSON texts of patches. Views of several callers may send the same patch. */
const patchTexts = new WeakMap<JsonPatch, string>();

/**
 * The JSON text of a patch. It is made once, however many views send the patch.
 *
 * @throws {ProblemError} `query-too-costly` when it has more than `mostBytes`
 */
export function writePatch(patch: JsonPatch, mostBytes: number): string {
  let text = patchTexts.get(patch);
  if (text === undefined) {
    if (exceedsSize(patch as unknown as JsonValue, mostBytes)) throw tooManyBytes('A change of this watch', mostBytes);
    patchTexts.set(patch, (text = JSON.stringify(patch)));
  }
  return text;
}

/** Encodes an event for a transport, in parts that follow each other. */
export type EventEncoder = (event: LiveEvent) => readonly Buffer[];

/** One event of a view, sent to every connection that watches it. */
export class LiveEvent {
  #encoded: Map<EventEncoder, readonly Buffer[]> | undefined;
  #sizeBytes: number | undefined;

  private constructor(
    readonly name: 'result' | 'change' | 'reset',
    readonly watch: string,
    readonly seq: number,
    /** The point to resume from after this event. */
    readonly resume: string,
    /** The first members of the event as JSON text, without the brace before them. */
    readonly start: string,
    /** The members after them, in events with a full state. */
    readonly state?: StateText,
    /** True for a change with an empty patch. */
    readonly empty = false,
  ) {}

  /** The first event of a watch, or one that says: forget what you had. */
  static full(name: 'result' | 'reset', watch: string, resume: string, seq: number, state: StateText): LiveEvent {
    return new LiveEvent(name, watch, seq, resume, `"seq":${seq},`, state);
  }

  /**
   * An event that changes the state.
   *
   * @param patch as JSON text. An empty one only says that the state still holds at `seq`.
   */
  static change(watch: string, resume: string, seq: number, patch: string, more?: boolean): LiveEvent {
    const members = `"seq":${seq},"patch":${patch}${more === undefined ? '' : `,"more":${more}`}`;
    const empty = patch === '[]' && more === undefined;
    return new LiveEvent('change', watch, seq, resume, members, undefined, empty);
  }

  /** The members of the event as JSON text, without the braces around them. */
  get members(): string {
    return this.state ? this.start + this.state.text : this.start;
  }

  /** The size of the event without the frame of a transport, in bytes. */
  get sizeBytes(): number {
    this.#sizeBytes ??= Buffer.byteLength(this.start) + (this.state?.sizeBytes ?? 0);
    return this.#sizeBytes;
  }

  /** The bytes of the event for one transport. They are made once, however many connections they go to. */
  encodedBy(encoder: EventEncoder): readonly Buffer[] {
    this.#encoded ??= new Map();
    let parts = this.#encoded.get(encoder);
    if (!parts) this.#encoded.set(encoder, (parts = encoder(this)));
    return parts;
  }
}
