import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { connect, type ConnectOptions, type Store } from '@uproar/client';
import { startService, type Service, type ServiceOptions } from '@uproar/service';

/** The key of every store that tests start. */
export const KEY = 'test-key-0123456789';

const directories = new Set<string>();

// Those of suites of which no test is run, and of tests that failed.
process.on('exit', () => directories.forEach(removeDirectory));

/** A directory of its own for a test, and what removes it; at the latest it goes when all tests are through. */
export function temporaryDirectory(): { path: string; remove: () => void } {
  const path = mkdtempSync(join(tmpdir(), 'uproar-test-'));
  directories.add(path);
  return { path, remove: () => removeDirectory(path) };
}

function removeDirectory(path: string): void {
  directories.delete(path);
  // A process that is just ending may still write to it.
  rmSync(path, { recursive: true, force: true, maxRetries: 20, retryDelay: 50 });
}

/** A running service for tests, over loopback, on a free port and a directory of its own. */
export class TestService {
  private readonly stores: Store[] = [];
  private constructor(
    public service: Service,
    readonly directory: string,
    private readonly options: Partial<ServiceOptions>,
    private readonly removeDirectory: () => void,
  ) {}

  static async start(options: Partial<ServiceOptions> = {}): Promise<TestService> {
    const { path, remove } = temporaryDirectory();
    const service = await startService({ directory: path, host: '127.0.0.1', port: 0, adminKey: KEY, ...options });
    return new TestService(service, path, options, remove);
  }

  get url(): string {
    return this.service.address;
  }

  /** Stops the service and starts it again on the same store and port. */
  async restart(): Promise<void> {
    const { port } = new URL(this.url);
    await this.service.close();
    this.service = await startService({
      directory: this.directory,
      host: '127.0.0.1',
      adminKey: KEY,
      ...this.options,
      port: Number(port),
    });
    // The connections that fetch has kept from before are of no use any more; this uses them up.
    await fetch(`${this.url}/healthz`).catch(() => undefined);
  }

  async stop(): Promise<void> {
    for (const store of this.stores) store.close();
    await this.service.close();
    this.removeDirectory();
  }

  /** A client of the service. It is closed with it. */
  client(options: Partial<ConnectOptions> = {}): Store {
    const store = connect(this.url, { token: KEY, backoffMs: () => 30, ...options });
    this.stores.push(store);
    return store;
  }

  /** Makes requests with another key or token; null sends none. */
  as(secret: string | null) {
    return (method: string, path: string, body?: unknown, headers: Record<string, string> = {}) =>
      this.request(method, path, body, { ...headers, authorization: secret === null ? '' : `Bearer ${secret}` });
  }

  /** Puts a policy in force. */
  async setPolicy(policy: object | string): Promise<void> {
    const text = typeof policy === 'string' ? policy : JSON.stringify(policy);
    const { status, text: answer } = await this.request('PUT', '/v1/policy', { text });
    if (status !== 200) throw new Error(answer);
  }

  /** One HTTP request with the key. A body that is not a string is sent as JSON. */
  async request(
    method: string,
    path: string,
    body?: unknown,
    headers: Record<string, string> = {},
  ): Promise<HttpAnswer> {
    const response = await fetch(this.url + path, {
      method,
      body:
        body === undefined
          ? undefined
          : typeof body === 'string' || body instanceof Uint8Array
            ? (body as string)
            : JSON.stringify(body),
      headers: {
        ...(headers.authorization === '' ? {} : { authorization: `Bearer ${KEY}` }),
        ...(body === undefined
          ? {}
          : { 'content-type': method === 'PATCH' ? 'application/merge-patch+json' : 'application/json' }),
        ...Object.fromEntries(Object.entries(headers).filter(([, value]) => value !== '')),
      },
    });
    const text = await response.text();
    return { status: response.status, headers: response.headers, text, json: text === '' ? undefined : parse(text) };
  }
}

/** What came back for a request. `json` is the body, parsed, where it is JSON. */
export interface HttpAnswer {
  status: number;
  headers: Headers;
  text: string;
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  json: any;
}

function parse(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

/** Waits until something holds, asking again and again; fails with `what` when it does not in time. */
export async function until(what: string, holds: () => boolean | Promise<boolean>, timeoutMs = 50_000): Promise<void> {
  const end = Date.now() + timeoutMs;
  while (!(await holds())) {
    if (Date.now() > end) throw new Error(`Timed out after ${timeoutMs} ms waiting for: ${what}`);
    await new Promise((resolve) => setTimeout(resolve, 10));
  }
}
