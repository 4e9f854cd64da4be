import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { diff, type JsonValue } from '@uproar/core';
import { SignJWT } from 'jose';
import type { Service } from '@uproar/service';
import { RandomWrites, type RandomWrite } from './random-writes.js';
import { RecordedLink } from './recorded-link.js';
import { shows, stateOf, TestedProgram, type ShownState } from './tested-program.js';

/** What is tested, and how. */
export interface TrialOptions {
  /** The program with its arguments; the query is added as the last one. */
  command: readonly string[];
  /** What the program watches: `balloons?limit=none`. */
  query: string;
  seed: number;
  /** How long the program has to show a state, in milliseconds. */
  timeoutMs: number;
}

/** What a program got wrong. */
export class ConformanceError extends Error {
  override name = 'ConformanceError';
  /** @param details further lines for the report */
  constructor(
    message: string,
    readonly details: readonly string[] = [],
  ) {
    super(message);
  }
}

const ADMIN_KEY = 'conformance-admin-key';
const TOKEN_SECRET = 'a secret of this machine that signs one token';
/** A difference in a report has at most so many operations. */
const SHOWN_OPERATIONS = 8;

/** A store of its own, a link to it, and the program under test at the other end. */
export class Trial {
  program!: TestedProgram;
  /** The token that the program uses. */
  token = '';
  readonly #writes: RandomWrites;
  /** The states that the store had, the oldest first. */
  readonly #history: ShownState[] = [];

  private constructor(
    readonly options: TrialOptions,
    readonly directory: string,
    readonly link: RecordedLink,
    private service: Service,
  ) {
    this.#writes = new RandomWrites(options.seed);
  }

  static async open(options: TrialOptions): Promise<Trial> {
    const directory = mkdtempSync(join(tmpdir(), 'uproar-conformance-'));
    const service = await start(directory, 0);
    const port = Number(new URL(service.address).port);
    const trial = new Trial(options, directory, await RecordedLink.start(port), service);
    trial.token = await new SignJWT({ sub: 'program' })
      .setProtectedHeader({ alg: 'HS256' })
      .setExpirationTime('1h')
      .sign(new TextEncoder().encode(TOKEN_SECRET));
    await trial.setPolicy('true');
    return trial;
  }

  /** Ends the program and the store, and removes what they left. */
  async end(): Promise<void> {
    await this.program?.stop();
    await this.link.stop();
    await this.service.close();
    rmSync(this.directory, { recursive: true, force: true, maxRetries: 20, retryDelay: 50 });
  }

  /** Starts the program; with another token than its own, if one is given. */
  run(token = this.token): void {
    this.program = new TestedProgram([...this.options.command, this.options.query], {
      UPROAR_URL: this.link.url,
      UPROAR_KEY: token,
      UPROAR_QUERY: this.options.query,
      UPROAR_COPY: join(this.directory, 'copy'),
    });
  }

  /** Writes, starts the program, and waits until it shows what the store has. */
  async begin(commits: number): Promise<void> {
    await this.write(commits);
    this.run();
    await this.expectState('at the start');
  }

  /** Stops the store and starts it again. */
  async restart(downMs: number): Promise<void> {
    const port = Number(new URL(this.service.address).port);
    await this.service.close();
    await sleep(downMs);
    this.service = await start(this.directory, port);
  }

  /** Writes random commits, one after another. */
  async write(commits: number): Promise<void> {
    for (let n = 0; n < commits; n++) await this.commit(this.#writes.next());
  }

  /** Writes one commit, and notes the state that it leaves. */
  async commit(writes: readonly RandomWrite[]): Promise<void> {
    await this.request('POST', '/v1/commits', { writes });
    await this.note();
  }

  /** Sets what the program may read of `balloons`: a condition, or `true` or `false`. */
  async setPolicy(read: string): Promise<void> {
    const rule = read === 'true' || read === 'false' ? read === 'true' : read;
    const everything = { read: true, create: true, update: true, delete: true };
    const text = JSON.stringify({ collections: { balloons: { ...everything, read: rule }, tallies: everything } });
    await this.request('PUT', '/v1/policy', { text });
    if (rule !== false) await this.note();
  }

  /** Notes the present state of the store as one that may be shown. */
  async note(): Promise<void> {
    const state = await this.read();
    if (state.text !== this.#history.at(-1)?.text) this.#history.push(state);
  }

  /** What the program should show now. */
  async read(): Promise<ShownState> {
    const [collection, parameters] = this.options.query.split('?') as [string, string?];
    const query = new URLSearchParams(parameters);
    query.delete('ordered');
    if (query.get('limit') === 'none') query.set('limit', '10000');
    const { documents } = await this.request('GET', `/v1/data/${collection}?${query}`, undefined, this.token);
    const list = documents as { id: string }[];
    return stateOf(
      Object.fromEntries(list.map((document) => [document.id, document as unknown as JsonValue])),
      list.map(({ id }) => id),
    );
  }

  /**
   * Waits until the program shows what the store has.
   *
   * @throws {ConformanceError} if it does not in time, has ended, or prints something else than states
   */
  async expectState(when: string, timeoutMs = this.options.timeoutMs): Promise<void> {
    const expected = await this.read();
    const end = Date.now() + timeoutMs;
    for (;;) {
      const { shown, wrongLine, ended, stderr } = this.program;
      if (shown && shows(shown, expected)) return;
      if (wrongLine !== undefined) {
        throw new ConformanceError('The program printed a line that is not a state.', [
          `line: ${wrongLine.slice(0, 200)}`,
        ]);
      }
      if (ended !== undefined) {
        throw new ConformanceError(
          `The program ended (${ended}) ${when}.`,
          stderr.split('\n').filter(Boolean).slice(-6),
        );
      }
      if (Date.now() > end) throw wrongState(when, shown, expected, timeoutMs);
      await sleep(20);
    }
  }

  /**
   * Checks that each printed state is one that the store had, and that none is older than one before it.
   *
   * @throws {ConformanceError}
   */
  expectHistory(): void {
    let place = 0;
    for (const [index, shown] of this.program.states.entries()) {
      const found = this.#history.findIndex((state, at) => at >= place && shows(shown, state));
      if (found === -1) {
        if (this.#history.some((state) => shows(shown, state))) {
          throw new ConformanceError(`State ${index + 1} that the program printed is older than the state before it.`);
        }
        const nearest = this.#history[place]!;
        throw new ConformanceError(`State ${index + 1} that the program printed is one that the store never had.`, [
          `difference from a state of the store: ${difference(nearest, shown)}`,
        ]);
      }
      place = found;
    }
  }

  /** Makes a request to the store, not through the link. */
  async request(method: string, path: string, body?: unknown, key = ADMIN_KEY): Promise<Record<string, unknown>> {
    const response = await fetch(this.service.address + path, {
      method,
      headers: {
        authorization: `Bearer ${key}`,
        ...(body === undefined ? {} : { 'content-type': 'application/json' }),
      },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    });
    const text = await response.text();
    if (!response.ok) throw new Error(`${method} ${path}: ${response.status} ${text}`);
    return JSON.parse(text) as Record<string, unknown>;
  }
}

/** The service is loaded only where trials run: it takes longest of all. */
async function start(directory: string, port: number): Promise<Service> {
  const { startService } = await import('@uproar/service');
  return startService({
    directory: join(directory, 'store'),
    host: '127.0.0.1',
    port,
    adminKey: ADMIN_KEY,
    tokens: { secret: TOKEN_SECRET },
  });
}

function wrongState(
  when: string,
  shown: ShownState | undefined,
  expected: ShownState,
  timeoutMs: number,
): ConformanceError {
  const seconds = timeoutMs / 1000;
  if (!shown) return new ConformanceError(`The program printed no state within ${seconds} s ${when}.`);
  if (shown.text === expected.text) {
    return new ConformanceError(`The program shows another order than the store ${when}.`, [
      `shown:    ${shown.ids!.join(' ')}`,
      `expected: ${expected.ids!.join(' ')}`,
    ]);
  }
  return new ConformanceError(`The program still showed a wrong state ${seconds} s ${when}.`, [
    `difference from the state shown to the right one: ${difference(shown, expected)}`,
  ]);
}

/** A difference as a JSON Patch, shortened. */
function difference(from: ShownState, to: ShownState): string {
  const patch = diff(from.documents as JsonValue, to.documents as JsonValue);
  const text = JSON.stringify(patch.slice(0, SHOWN_OPERATIONS));
  const rest = patch.length > SHOWN_OPERATIONS ? ` and ${patch.length - SHOWN_OPERATIONS} more` : '';
  return (text.length > 600 ? `${text.slice(0, 600)} …` : text) + rest;
}
