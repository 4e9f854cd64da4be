import { spawn, type ChildProcess } from 'node:child_process';
import { createInterface } from 'node:readline';
import { setTimeout as sleep } from 'node:timers/promises';
import { canonicalText, isObject, type JsonValue } from '@uproar/core';

/** So much of what a program writes to its standard error is kept, in characters. */
const KEPT_STDERR = 4000;
/** A program may print so many states, and so many bytes in all. The checks need less. */
const MOST_STATES = 100_000;
const MOST_BYTES = 256_000_000;
/** So long a program has to end after SIGTERM, in milliseconds. */
const GRACE_MS = 2000;

/** A state that a program printed: the documents by id, and their order where it says so. */
export interface ShownState {
  documents: Readonly<Record<string, JsonValue>>;
  /** The documents as canonical text, for comparisons. */
  text: string;
  ids: readonly string[] | undefined;
}

/** A program under test: its states are the lines of JSON that it prints. */
export class TestedProgram {
  readonly states: ShownState[] = [];
  /** The first line that is not a state. */
  wrongLine: string | undefined;
  stderr = '';
  /** The exit code or the signal that ended the program. */
  ended: number | string | undefined;
  readonly #child: ChildProcess;

  /** @throws {Error} asynchronously through `ended`, if it cannot be started */
  constructor(command: readonly string[], environment: Readonly<Record<string, string>>) {
    const [file, ...rest] = command as [string, ...string[]];
    // A group of its own, so that its children can be ended with it.
    const env = { ...process.env, ...environment };
    this.#child = spawn(file, rest, { env, stdio: ['pipe', 'pipe', 'pipe'], detached: true });
    this.#child.on('error', ({ message }) => {
      this.stderr += message;
      this.ended = 'not started';
    });
    this.#child.on('exit', (code, signal) => (this.ended ??= code ?? signal ?? 'ended'));
    this.#child.stdin!.on('error', () => undefined);
    let printed = 0;
    this.#child.stdout!.on('data', ({ length }: Buffer) => {
      printed += length;
      if (printed > MOST_BYTES) this.#endFor(`more than ${MOST_BYTES} bytes in all`);
    });
    createInterface({ input: this.#child.stdout! }).on('line', (line) => this.#take(line));
    this.#child.stderr!.on('data', (text) => (this.stderr = (this.stderr + String(text)).slice(-KEPT_STDERR)));
  }

  /** Gives the program a commit to send, as a line of JSON. */
  tell(commit: object): void {
    this.#child.stdin!.write(`${JSON.stringify(commit)}\n`);
  }

  /** The last state that it printed. */
  get shown(): ShownState | undefined {
    return this.states.at(-1);
  }

  /** Ends the program: at once, or so that it may tidy up. */
  async stop(signal: 'SIGTERM' | 'SIGKILL' = 'SIGTERM'): Promise<void> {
    if (this.ended === 'not started') return;
    this.#signal(signal);
    const end = Date.now() + GRACE_MS;
    while (this.ended === undefined && Date.now() < end) await sleep(20);
    this.#signal('SIGKILL');
  }

  #signal(signal: NodeJS.Signals): void {
    try {
      process.kill(-this.#child.pid!, signal);
    } catch {
      // It has ended.
    }
  }

  #take(line: string): void {
    if (line.trim() === '' || this.states.length > MOST_STATES) return;
    const state = readState(line);
    if (state) this.states.push(state);
    else this.wrongLine ??= line;
    if (this.states.length > MOST_STATES) this.#endFor(`more than ${MOST_STATES} states`);
  }

  #endFor(excess: string): void {
    this.wrongLine ??= excess;
    this.#signal('SIGKILL');
  }
}

/** Reads a printed state: documents by id, `{ "documents": …, "ids": … }`, or a list of documents in order. */
function readState(line: string): ShownState | undefined {
  let value: JsonValue;
  try {
    value = JSON.parse(line) as JsonValue;
  } catch {
    return undefined;
  }
  if (Array.isArray(value)) {
    if (!value.every((item) => isObject(item) && typeof item.id === 'string')) return undefined;
    const list = value as { id: string }[];
    return stateOf(Object.fromEntries(list.map((document) => [document.id, document])), list.map(idOf));
  }
  if (!isObject(value)) return undefined;
  const { documents, ids } = value;
  if (isObject(documents ?? null) && Array.isArray(ids)) return stateOf(documents as never, ids as string[]);
  return stateOf(value, undefined);
}

/** A state, ready to be compared. */
export function stateOf(
  documents: Readonly<Record<string, JsonValue>>,
  ids: readonly string[] | undefined,
): ShownState {
  return { documents, text: canonicalText(documents as JsonValue), ids };
}

/** Whether a program shows a state of the store; the order counts if the program says it. */
export function shows(shown: ShownState, state: ShownState): boolean {
  return shown.text === state.text && (!shown.ids || shown.ids.join() === state.ids!.join());
}

function idOf({ id }: { id: string }): string {
  return id;
}
