import type * as OpenTelemetry from '@opentelemetry/api';
import type { Attributes, Span, Tracer } from '@opentelemetry/api';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { VERSION } from '../version.js';

type Api = typeof OpenTelemetry;

const ignore = (): void => undefined;

/**
 * Traces by OpenTelemetry, if its package `@opentelemetry/api` is installed and configured; otherwise nothing is
 * traced. A request continues the trace of its `traceparent` (W3C Trace Context).
 */
export class Tracing {
  readonly #api: Api | undefined;
  readonly #tracer: Tracer | undefined;

  constructor(api?: Api) {
    this.#api = api;
    const tracer = api?.trace.getTracer('uproar', VERSION);
    // Without a provider, spans lead nowhere, so none are made.
    const first = tracer?.startSpan('start');
    first?.end();
    if (first && api!.isSpanContextValid(first.spanContext())) this.#tracer = tracer;
  }

  /** Looks whether the package is there. */
  static async load(): Promise<Tracing> {
    try {
      return new Tracing(await import('@opentelemetry/api'));
    } catch (error) {
      // In the bundled program, the import is a `require`, which has another code.
      const missing = ['ERR_MODULE_NOT_FOUND', 'MODULE_NOT_FOUND'];
      if (missing.includes((error as NodeJS.ErrnoException).code ?? '')) return new Tracing();
      throw error;
    }
  }

  /**
   * Traces every request of a server except health checks.
   *
   * @param onAnswer adds a listener that is called when a request has been answered or aborted
   */
  traceRequests(
    app: FastifyInstance,
    onAnswer: (listener: (request: FastifyRequest, reply: FastifyReply) => void) => void,
  ): void {
    const [api, tracer] = [this.#api, this.#tracer];
    if (!api || !tracer) return;
    const spans = new WeakMap<object, Span>();
    app.addHook('onRequest', (request, _reply, next) => {
      const route = request.routeOptions.url ?? 'none';
      const parent = api.propagation.extract(api.context.active(), request.headers);
      const span = tracer.startSpan(
        `${request.method} ${route}`,
        {
          kind: api.SpanKind.SERVER,
          attributes: {
            'http.request.method': request.method,
            'http.route': route,
            'url.path': request.url.split('?')[0],
            'client.address': request.ip,
          },
        },
        parent,
      );
      spans.set(request, span);
      api.context.with(api.trace.setSpan(parent, span), next);
    });
    onAnswer((request, reply) => {
      const span = spans.get(request);
      span?.setAttribute('http.response.status_code', reply.statusCode);
      if (reply.statusCode >= 500) span?.setStatus({ code: api.SpanStatusCode.ERROR });
      span?.end();
    });
  }

  /** Traces an operation. Errors are recorded and passed on. */
  span<T>(name: string, attributes: Attributes, run: (note: (more: Attributes) => void) => Promise<T>): Promise<T> {
    return this.#tracer ? this.#traced(this.#tracer, name, attributes, run) : run(ignore);
  }

  async #traced<T>(
    tracer: Tracer,
    name: string,
    attributes: Attributes,
    run: (note: (more: Attributes) => void) => Promise<T>,
  ): Promise<T> {
    const span = tracer.startSpan(name, { attributes });
    try {
      return await run((more) => span.setAttributes(more));
    } catch (error) {
      span.recordException(error as Error);
      span.setStatus({ code: this.#api!.SpanStatusCode.ERROR, message: (error as Error).message });
      throw error;
    } finally {
      span.end();
    }
  }

  /** Traces an operation that has just taken this many milliseconds. */
  past(name: string, attributes: Attributes, durationMs: number): void {
    if (!this.#tracer) return;
    const now = Date.now();
    this.#tracer.startSpan(name, { attributes, startTime: now - durationMs }).end(now);
  }
}
