import { ProblemError } from '@uproar/protocol/problem-error';
import type { Problem } from '@uproar/protocol';
import { ConnectionError, tokenOf, type Token } from './link.js';

/** What a request sends besides its method and path. */
export interface HttpRequestInit {
  /** Sent as JSON. */
  body?: unknown;
  headers?: Record<string, string>;
  signal?: AbortSignal | undefined;
}

/** Sends HTTP requests to a store, with the token. */
export class HttpRequests {
  constructor(
    readonly url: () => string,
    readonly token: Token | undefined,
  ) {}

  /** The headers that authenticate a request; the token is requested each time. */
  readonly authorization = async (): Promise<Record<string, string>> => {
    const token = await tokenOf(this.token);
    return token === undefined ? {} : { authorization: `Bearer ${token}` };
  };

  /**
   * Sends a request. Resolves with a successful response.
   *
   * @throws {ProblemError} when the service refuses
   * @throws {ConnectionError} when no store answers
   */
  async send(method: string, path: string, { body, headers, signal }: HttpRequestInit = {}): Promise<Response> {
    const authorization = await this.authorization();
    const url = this.url();
    let response: Response;
    try {
      response = await fetch(url + path, {
        method,
        headers: {
          ...authorization,
          ...(body === undefined ? {} : { 'content-type': 'application/json' }),
          ...headers,
        },
        body: body === undefined ? null : JSON.stringify(body),
        signal: signal ?? null,
      });
    } catch (error) {
      const { code } = ((error as Error).cause ?? {}) as { code?: string };
      throw new ConnectionError(`No answer from ${url}${code ? ` (${code})` : ''}.`);
    }
    // A service worker or a proxy that answers in place of the store sends a page. Files can be pages, too.
    const isPage = /html/.test(response.headers.get('content-type') ?? '') && !path.startsWith('/v1/files/');
    if (response.ok && !isPage) return response;
    const problem = (await response.json().catch(() => undefined)) as Problem | undefined;
    if (problem?.type) throw new ProblemError(problem);
    throw new ConnectionError(`${url} answers, but is not an Uproar store (HTTP status ${response.status}).`);
  }
}
