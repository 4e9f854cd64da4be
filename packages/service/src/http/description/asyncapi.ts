import {
  JournalEvent,
  LIVE_NOTIFICATIONS,
  LIVE_PARAMS,
  LIVE_RESULTS,
  Problem,
  WatchChange,
  WatchResult,
  type LiveMethod,
} from '@uproar/protocol';
import { z } from 'zod';
import { VERSION } from '../../version.js';

type Schema = Record<string, unknown>;

/** What each call over the WebSocket is for. */
const CALLS: Record<LiveMethod, string> = {
  hello: 'Authenticate with a key or a token; call again to change the identity or to renew the token',
  watch: 'Watch a query, a document or the list of collections; start new or resume',
  unwatch: 'End a watch',
  query: 'Read the result of a query once',
  get: 'Read one document, now or at an earlier seq',
  commit: 'Write a group of documents, all or nothing',
  release: 'Let go a document that lives as long as this connection',
};

const NOTIFICATIONS: Record<keyof typeof LIVE_NOTIFICATIONS, string> = {
  change: 'The state of a watch has changed: apply the patch',
  reset: 'Discard the state of a watch and use this one',
  end: 'A watch has ended, for this reason',
  accepted: 'A commit of this connection is on disk',
  alive: 'Sent regularly to show that the connection works',
};

/** The events of a stream that is a watch. */
const EVENTS = {
  result: { schema: WatchResult, about: 'The whole state; always first' },
  change: { schema: WatchChange, about: 'A change of the state as JSON Patch (RFC 6902)' },
  reset: { schema: WatchResult, about: 'The whole state: discard the previous one' },
  end: { schema: Problem, about: 'The watch has ended, for this reason' },
} as const;

const STREAMS = {
  query: { address: '/v1/data/{collection}', about: 'A query, live' },
  document: { address: '/v1/data/{collection}/{id}', about: 'One document, live; it need not exist yet' },
  collections: { address: '/v1/collections', about: 'The list of collections, live' },
} as const;

const PARAMETERS: Record<string, { description: string }> = {
  collection: { description: 'The name of a collection.' },
  id: { description: 'The id of a document.' },
};

/** Describes the event streams and the WebSocket as AsyncAPI 3.0, from the declarations that validate them. */
export function describeLive(): { asyncapi: string } {
  return new LiveDescription().write();
}

class LiveDescription {
  readonly #schemas = new Schemas();
  readonly #messages: Record<string, Schema> = {};
  readonly #channels: Record<string, Schema & { messages: Record<string, Schema> }> = {};
  readonly #operations: Record<string, Schema> = {};

  constructor() {
    this.#describeSocket();
    this.#describeStreams();
    this.#describeJournal();
  }

  write(): { asyncapi: string } {
    return {
      asyncapi: '3.0.0',
      info: {
        title: 'Uproar, live',
        version: VERSION,
        description:
          'Everything that can be read can be watched: over event streams, or as many watches over one WebSocket.',
        license: { name: 'Apache-2.0', url: 'https://www.apache.org/licenses/LICENSE-2.0' },
      },
      defaultContentType: 'application/json',
      servers: {
        socket: {
          host: 'localhost:4680',
          protocol: 'ws',
          description: 'The WebSocket of a store (RFC 6455)',
          security: SECURITY,
        },
        stream: {
          host: 'localhost:4680',
          protocol: 'http',
          description: 'The event streams of a store',
          security: SECURITY,
        },
      },
      channels: this.#channels,
      operations: this.#operations,
      components: {
        schemas: this.#schemas.all,
        messages: this.#messages,
        securitySchemes: {
          key: {
            type: 'http',
            scheme: 'bearer',
            description: 'A key or a token. Over the WebSocket, hello can send it instead.',
          },
        },
      },
    } as { asyncapi: string };
  }

  #describeSocket(): void {
    this.#channels.live = {
      address: '/v1/live',
      title: 'The WebSocket',
      description: 'JSON-RPC 2.0, one message per frame, no batches. Many watches and commits on one connection.',
      servers: [{ $ref: '#/servers/socket' }],
      messages: {},
      bindings: { ws: { method: 'GET', bindingVersion: '0.1.0' } },
    };
    this.#describeCalls();
    this.#describeNotifications();
  }

  #describeCalls(): void {
    const refused = this.#addMessage(
      'live',
      'refused',
      'The call was refused, with the reason',
      REFUSED(this.#schemas),
      'live',
    );
    for (const [method, params] of Object.entries(LIVE_PARAMS)) {
      const about = CALLS[method as LiveMethod];
      const call = envelope({
        id: CALL_ID,
        method: { const: method },
        params: this.#schemas.add(params, `${nameOf(method)}CallParams`),
      });
      const result = this.#schemas.add(LIVE_RESULTS[method as LiveMethod], `${nameOf(method)}CallResult`);
      const answer = envelope({ id: CALL_ID, result });
      this.#operations[`call-${method}`] = {
        action: 'receive',
        channel: { $ref: '#/channels/live' },
        summary: about,
        messages: [this.#addMessage('live', method, about, call, 'live')],
        reply: {
          channel: { $ref: '#/channels/live' },
          messages: [this.#addMessage('live', `${method}-answer`, `The answer to ${method}`, answer, 'live'), refused],
        },
      };
    }
  }

  #describeNotifications(): void {
    for (const [method, params] of Object.entries(LIVE_NOTIFICATIONS)) {
      const about = NOTIFICATIONS[method as keyof typeof LIVE_NOTIFICATIONS];
      const payload = envelope({
        method: { const: method },
        params: this.#schemas.add(params, `${nameOf(method)}Notice`),
      });
      this.#operations[`notify-${method}`] = {
        action: 'send',
        channel: { $ref: '#/channels/live' },
        summary: about,
        messages: [this.#addMessage('live', `notification-${method}`, about, payload, 'live')],
      };
    }
  }

  #describeStreams(): void {
    for (const [name, { address, about }] of Object.entries(STREAMS)) {
      this.#addStream(name, address, about);
      this.#operations[`stream-${name}`] = {
        action: 'send',
        channel: { $ref: `#/channels/${name}` },
        summary: about,
        bindings: { http: { method: 'GET', bindingVersion: '0.3.0' } },
        messages: Object.entries(EVENTS).map(([event, { schema, about: says }]) =>
          this.#addMessage(name, event, says, this.#schemas.add(schema), 'event'),
        ),
      };
    }
  }

  #describeJournal(): void {
    this.#addStream('journal', '/v1/journal', 'The journal, live');
    this.#operations['stream-journal'] = {
      action: 'send',
      channel: { $ref: '#/channels/journal' },
      summary: 'Every change of a document, as a CloudEvent',
      bindings: { http: { method: 'GET', bindingVersion: '0.3.0' } },
      messages: JournalEvent.shape.type.options.map((type) =>
        this.#addMessage('journal', type, 'A document was written', this.#schemas.add(JournalEvent), 'journal'),
      ),
    };
  }

  #addStream(name: string, address: string, about: string): void {
    const parameters = [...address.matchAll(/\{(\w+)\}/g)].map(([, one]) => [one!, PARAMETERS[one!]!] as const);
    this.#channels[name] = {
      address,
      title: about,
      description: 'An event stream (HTML Standard, section 9.2), with "Accept: text/event-stream".',
      servers: [{ $ref: '#/servers/stream' }],
      messages: {},
      ...(parameters.length > 0 ? { parameters: Object.fromEntries(parameters) } : {}),
    };
  }

  /** Adds a message to a channel. Returns a reference to it. */
  #addMessage(channel: string, name: string, about: string, payload: Schema, of: string): { $ref: string } {
    const key = `${of}-${name}`;
    if (!this.#messages[key]) {
      const named = '$ref' in payload ? payload : this.#schemas.keep(`${nameOf(key)}Message`, payload);
      this.#messages[key] = { name, title: name, summary: about, contentType: 'application/json', payload: named };
    }
    this.#channels[channel]!.messages[name] = { $ref: `#/components/messages/${key}` };
    return { $ref: `#/channels/${channel}/messages/${name}` };
  }
}

const SECURITY = [{ $ref: '#/components/securitySchemes/key' }];

const CALL_ID = { oneOf: [{ type: 'string', maxLength: 64 }, { type: 'integer' }] };

/** A message of JSON-RPC 2.0 with these members. */
function envelope(members: Schema): Schema {
  const properties = { jsonrpc: { const: '2.0' }, ...members };
  return { type: 'object', properties, required: Object.keys(properties) };
}

function REFUSED(schemas: Schemas): Schema {
  const error = schemas.keep('CallError', {
    type: 'object',
    properties: {
      code: { type: 'integer', description: 'The status of the problem, or a code of JSON-RPC 2.0 (section 5.1).' },
      message: { type: 'string' },
      data: schemas.add(Problem),
    },
    required: ['code', 'message', 'data'],
  });
  return envelope({ id: { oneOf: [...CALL_ID.oneOf, { type: 'null' }] }, error });
}

/** JSON Schemas of declarations; named ones are stored under their name and referenced. */
class Schemas {
  readonly all: Record<string, Schema> = {};

  /**
   * What stands for a declaration where it is used.
   *
   * @param ownName its name if it has none
   */
  add(declaration: z.ZodType, ownName?: string): Schema {
    const { $schema, definitions, ...schema } = z.toJSONSchema(declaration, {
      target: 'draft-7',
      unrepresentable: 'any',
      io: 'input',
    }) as Schema & {
      definitions?: Record<string, Schema>;
    };
    void $schema;
    for (const [name, inner] of Object.entries(definitions ?? {})) this.keep(name, inner);
    const name = declaration.meta()?.id ?? ownName;
    return name === undefined ? refer(schema) : this.keep(name, schema);
  }

  /** Stores a schema under a name. Returns a reference to it. */
  keep(name: string, { id, ...schema }: Schema): Schema {
    void id;
    this.all[name] ??= refer(schema);
    return { $ref: `#/components/schemas/${name}` };
  }
}

/** A name for a schema: `hello-answer` becomes `HelloAnswer`. */
function nameOf(key: string): string {
  return key.replace(/(?:^|[-.])(\w)/g, (_, letter: string) => letter.toUpperCase());
}

/** The same schema, with references to where schemas are kept here. */
function refer(schema: Schema): Schema {
  return JSON.parse(
    JSON.stringify(schema).replaceAll('"#/definitions/', '"#/components/schemas/'),
    (_, value: unknown) => (typeof value === 'object' && value !== null && '$id' in value ? withoutId(value) : value),
  ) as Schema;
}

function withoutId({ $id, ...rest }: Schema): Schema {
  void $id;
  return rest;
}
