import { STATUS_CODES } from 'node:http';

/** Request header fields of some routes, in addition to those of all routes. */
const REQUEST_HEADERS = {
  'If-Match': 'Only if the present ETag is one of these, or with `*` if anything exists (RFC 9110, section 13.1.1).',
  'If-None-Match':
    'Only if the present ETag is none of these, or with `*` if nothing exists (RFC 9110, section 13.1.2).',
  'Idempotency-Key': 'Makes retries safe: the first answer is returned again, for at least 24 hours.',
  'Last-Event-ID': 'For a watch: the last `id` that was received. The watch resumes after it.',
  Range: 'A part of the content: `bytes=0-99` (RFC 9110, section 14).',
  'If-Range': 'Return the part if this is still the ETag, otherwise the whole content.',
} as const;

/** Header fields of answers. */
const RESPONSE_HEADERS = {
  ETag: 'The version of this state, for conditional requests.',
  Location: 'The address of the created resource.',
  'Content-Range': 'The range and the total size in bytes.',
} as const;

const IN_WORDS: Record<string, string> = {
  'application/x-ndjson': 'A JSON object a line.',
  'text/csv': 'With a header row (RFC 4180).',
  'text/event-stream': 'An event stream, as `/asyncapi.json` describes it.',
};

/** What the schemas of a route do not contain. */
export interface Described {
  /** Which header fields the operation reads. */
  requestHeaders?: readonly (keyof typeof REQUEST_HEADERS)[];
  /** Which header fields its answers have. */
  responseHeaders?: readonly (keyof typeof RESPONSE_HEADERS)[];
  /** The body: bytes of any media type, or for each media type which of the alternatives it is. */
  requestTypes?: 'bytes' | Readonly<Record<string, number>>;
  /** The media types of the response; by default JSON. */
  responseTypes?: readonly string[];
}

declare module 'fastify' {
  interface FastifyContextConfig {
    described?: Described;
  }
}

interface Media {
  schema?: { $ref?: string; anyOf?: object[]; type?: string; description?: string };
}

/** An operation of an OpenAPI document, as far as something is done to it. */
export interface Operation {
  parameters?: object[];
  requestBody?: { required?: boolean; content: Record<string, Media> };
  responses: Record<string, { description: string; headers?: object; content?: Record<string, Media> }>;
}

/** What the schemas of an operation do not describe: header fields, media types, and the meaning of statuses. */
export function describeOperation(operation: Operation, described: Described = {}): void {
  const { requestHeaders = [], responseHeaders = [], requestTypes, responseTypes } = described;
  const header = (name: string, description: string) => ({
    in: 'header',
    name,
    description,
    schema: { type: 'string' },
  });
  if (requestHeaders.length > 0) {
    operation.parameters = [
      ...(operation.parameters ?? []),
      ...requestHeaders.map((name) => header(name, REQUEST_HEADERS[name])),
    ];
  }
  if (requestTypes === 'bytes') operation.requestBody = { required: true, content: { '*/*': {} } };
  else if (requestTypes) {
    const { content } = operation.requestBody!;
    const alternatives = Object.values(content)[0]!.schema!.anyOf!;
    for (const [type, place] of Object.entries(requestTypes)) content[type] = { schema: alternatives[place]! };
  }
  for (const [status, response] of Object.entries(operation.responses)) {
    if (response.description === 'Default Response') {
      response.description = status === 'default' ? 'What went wrong, and what to do about it.' : STATUS_CODES[status]!;
    }
    const [media] = Object.values(response.content ?? {});
    if (media?.schema?.$ref?.endsWith('/Problem')) response.content = { 'application/problem+json': media };
    else if (media && responseTypes)
      response.content = Object.fromEntries(responseTypes.map((type) => [type, mediaOf(type, media)]));
    if (responseHeaders.length > 0 && status !== 'default') {
      const fields = responseHeaders.filter((name) =>
        name === 'Location' ? status === '201' : name !== 'Content-Range' || status === '206',
      );
      response.headers = Object.fromEntries(
        fields.map((name) => [name, { description: RESPONSE_HEADERS[name], schema: { type: 'string' } }]),
      );
    }
  }
}

function mediaOf(type: string, json: Media): Media {
  if (type === 'application/json') return json;
  if (!type.startsWith('text/') && type !== 'application/x-ndjson') return {};
  const description = IN_WORDS[type];
  return { schema: { type: 'string', ...(description === undefined ? {} : { description }) } };
}
