import { spawn, type ChildProcess } from 'node:child_process';
import { stripVTControlCharacters } from 'node:util';
import xterm, { type Terminal } from '@xterm/headless';
import { MAIN } from './command-run.js';
import { until } from './service.js';

/** A command in its own pseudo-terminal. */
export class PseudoTerminal {
  /** All that was written to the screen, with the codes that place and colour it. */
  raw = '';
  readonly ended: Promise<number | null>;
  readonly #process: ChildProcess;
  readonly #screen: Terminal;

  /** @param size columns and rows */
  constructor(args: string[], environment: Record<string, string>, [columns, rows] = [100, 24]) {
    const words = [process.execPath, MAIN, ...args].map((word) => `'${word.replaceAll("'", `'\\''`)}'`);
    const line = `stty cols ${columns} rows ${rows}; exec ${words.join(' ')}`;
    // `script` (util-linux) gives what it runs a terminal, passes keys on and ends as it ended.
    this.#process = spawn('script', ['-qfec', line, '/dev/null'], {
      env: { PATH: process.env.PATH, TERM: 'xterm-256color', HOME: '/nonexistent', ...environment },
      stdio: ['pipe', 'pipe', 'inherit'],
    });
    this.#screen = new xterm.Terminal({ cols: columns, rows, allowProposedApi: true });
    this.#process.stdout!.on('data', (text) => {
      this.raw += String(text);
      this.#screen.write(String(text));
    });
    this.ended = new Promise((resolve) => this.#process.on('close', resolve));
  }

  /** The written text, without control codes. */
  get text(): string {
    return stripVTControlCharacters(this.raw).replaceAll('\r', '');
  }

  /** The lines that the screen shows now. */
  get screen(): string {
    const { active } = this.#screen.buffer;
    const lines = Array.from({ length: this.#screen.rows }, (_, row) => active.getLine(active.viewportY + row));
    return lines.map((line) => line?.translateToString(true) ?? '').join('\n');
  }

  press(keys: string): void {
    this.#process.stdin!.write(keys);
  }

  shows(what: string | RegExp): Promise<void> {
    return until(
      `the terminal shows ${what}`,
      () => (typeof what === 'string' ? this.text.includes(what) : what.test(this.text)),
      15_000,
    );
  }

  kill(): void {
    this.#process.kill('SIGKILL');
  }
}
