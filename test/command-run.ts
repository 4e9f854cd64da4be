import { spawn } from 'node:child_process';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { KEY, temporaryDirectory, TestService } from './service.js';

/** The program of the command. */
export const MAIN = new URL('../packages/cli/dist/main.js', import.meta.url).pathname;

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

/** What tests of commands work with, for as long as their suite runs: a service, and a folder for files. */
export class CommandBench {
  service!: TestService;
  readonly #files = temporaryDirectory();

  constructor() {
    before(async () => (this.service = await TestService.start()));
    after(async () => {
      await this.service.stop();
      this.#files.remove();
    });
  }

  /** Runs a command against the service, with its key unless the environment says otherwise. */
  readonly run = (args: string[], input?: string, environment: Record<string, string> = {}): Promise<Outcome> =>
    new Run(args, { UPROAR_URL: this.service.url, UPROAR_KEY: KEY, ...environment }, input).ended;

  /** Where a file of the folder lies. */
  readonly at = (name: string): string => join(this.#files.path, name);

  /** Writes a file, and tells where it lies. */
  readonly file = (name: string, text: string): string => {
    writeFileSync(this.at(name), text);
    return this.at(name);
  };
}
