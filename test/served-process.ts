import { spawn, type ChildProcess } from 'node:child_process';
import { KEY, until } from './service.js';

const MAIN = new URL('../packages/cli/dist/bundled/main.js', import.meta.url).pathname;

/** The service as it is run: a process of its own, started with `uproar serve`. */
export class ServedProcess {
  private constructor(
    readonly child: ChildProcess,
    readonly url: string,
  ) {}

  static async start(
    directory: string,
    port = 0,
    options: string[] = [],
    environment: Record<string, string> = {},
    prefix: readonly string[] = [],
    main = MAIN,
  ): Promise<ServedProcess> {
    const serve = [process.execPath, main, 'serve', '--data', directory, '--port', String(port), ...options];
    const [command, ...args] = [...prefix, ...serve];
    const child = spawn(command!, args, {
      env: { ...process.env, UPROAR_ADMIN_KEY: KEY, NODE_OPTIONS: '', NO_COLOR: '1', ...environment },
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    let said = '';
    child.stdout.on('data', (text) => (said += String(text)));
    await until('the service is up', () => said.includes('/console/') || child.exitCode !== null, 120_000);
    if (child.exitCode !== null) throw new Error(`The service ended with ${child.exitCode} instead of starting.`);
    return new ServedProcess(child, /http:\/\/[\d.:]+/.exec(said)![0]);
  }

  get port(): number {
    return Number(new URL(this.url).port);
  }

  /** Sends a signal and waits for the end. Returns the exit code; null when the signal ended it. */
  stop(signal: NodeJS.Signals): Promise<number | null> {
    if (this.child.exitCode !== null || this.child.signalCode !== null) return Promise.resolve(this.child.exitCode);
    return new Promise((resolve) => {
      this.child.once('exit', (code) => resolve(code));
      this.child.kill(signal);
    });
  }
}
