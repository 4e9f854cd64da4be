import { fork, spawn, type ChildProcess } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { ServiceOptions } from '@uproar/service';
import { KEY, temporaryDirectory, TestService } from './service.js';

/** The program of the command. */
export const MAIN = new URL('../packages/cli/dist/bundled/main.js', import.meta.url).pathname;

/** How a run of the command ended. */
export interface Outcome {
  code: number | null;
  out: string;
  err: string;
}

/** A run of the command as a process. */
export class Run {
  out = '';
  err = '';
  readonly ended: Promise<Outcome>;
  readonly process;
  constructor(args: string[], environment: Record<string, string>, input?: string) {
    this.process = spawn(process.execPath, [MAIN, ...args], {
      env: { PATH: process.env.PATH, NO_COLOR: '1', ...environment },
      stdio: ['pipe', 'pipe', 'pipe'],
    });
    this.process.stdout.on('data', (text) => (this.out += String(text)));
    this.process.stderr.on('data', (text) => (this.err += String(text)));
    this.process.stdin.end(input ?? '');
    this.ended = new Promise((resolve) =>
      this.process.on('close', (code) => resolve({ code, out: this.out, err: this.err })),
    );
  }
}

/** A process that runs commands one after another, as {@link Run} does in a process for each. */
class CommandHost {
  readonly #process: ChildProcess;
  #last: Promise<unknown>;

  constructor() {
    const host = new URL('command-host.mjs', import.meta.url).pathname;
    const env = { PATH: process.env.PATH, NO_COLOR: '1' };
    this.#process = fork(host, { env, execArgv: [], stdio: ['ignore', 'inherit', 'inherit', 'ipc'] });
    this.#last = this.#answer();
  }

  run(args: string[], environment: Record<string, string>): Promise<Outcome> {
    const outcome = this.#last.then(() => {
      this.#process.send({ args, environment });
      return this.#answer() as Promise<Outcome>;
    });
    this.#last = outcome.catch(() => undefined);
    return outcome;
  }

  stop(): void {
    this.#process.kill();
  }

  #answer(): Promise<unknown> {
    return new Promise((resolve, reject) => {
      const ended = () => reject(new Error('The process that runs commands has ended.'));
      this.#process.once('exit', ended);
      this.#process.once('message', (message) => {
        this.#process.off('exit', ended);
        resolve(message);
      });
    });
  }
}

/** What tests of commands work with, for as long as their suite runs: a service, and a folder for files. */
export class CommandBench {
  service!: TestService;
  #host!: CommandHost;
  readonly #files = temporaryDirectory();

  constructor(options: Partial<ServiceOptions> = {}) {
    before(async () => {
      this.#host = new CommandHost();
      this.service = await TestService.start(options);
    });
    after(async () => {
      this.#host.stop();
      await this.service.stop();
      this.#files.remove();
    });
  }

  /** Runs a command against the service, with its key unless the environment says otherwise. */
  readonly run = (args: string[], input?: string, environment: Record<string, string> = {}): Promise<Outcome> => {
    const all = { UPROAR_URL: this.service.url, UPROAR_KEY: KEY, ...environment };
    return input === undefined ? this.#host.run(args, all) : new Run(args, all, input).ended;
  };

  /** Where a file of the folder lies. */
  readonly at = (name: string): string => join(this.#files.path, name);

  /** Writes a file; returns its path. */
  readonly file = (name: string, text: string): string => {
    writeFileSync(this.at(name), text);
    return this.at(name);
  };
}
