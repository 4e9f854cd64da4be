import { spawn } from 'node:child_process';

const MAIN = new URL('../packages/cli/dist/main.js', import.meta.url).pathname;

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
