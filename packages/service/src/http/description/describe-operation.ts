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

/** Media types that are no JSON: the names of their schemas, and what they are. */
const TEXTS: Record<string, { name: string; description: string }> = {
  'application/x-ndjson': { name: 'JsonLines', description: 'A JSON object a line.' },
  'text/csv': { name: 'Csv', description: 'With a header row (RFC 4180).' },
  'text/event-stream': { name: 'EventStream', description: 'An event stream, as `/asyncapi.json` describes it.' },
};

/** The schemas of media types that are no JSON. */
export const TEXT_SCHEMAS = Object.fromEntries(
  Object.values(TEXTS).map(({ name, description }) => [name, { type: 'string', description }]),
);

/** The answers in media types that are no JSON. */
export const TEXT_RESPONSES = Object.fromEntries(
  Object.entries(TEXTS).map(([type, { name, description }]) => [
    name,
    { description, content: { [type]: { schema: { $ref: `#/components/schemas/${name}` } } } },
  ]),
);

/** Statuses whose answers have no body (RFC 9110). */
const WITHOUT_BODY = ['204', '304'];

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

interface OperationResponse {
  description: string;
  headers?: object;
  content?: Record<string, Media>;
  /**
   * The answers in other media types, by type. They stand apart, so that generated clients know the JSON of an answer
   * without asking for its type.
   */
  'x-other-formats'?: Record<string, { $ref: string }>;
}

/** An operation of an OpenAPI document, as far as something is done to it. */
export interface Operation {
  parameters?: object[];
  requestBody?: { required?: boolean; content: Record<string, Media> };
  responses: Record<string, OperationResponse>;
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
    else if (WITHOUT_BODY.includes(status)) delete response.content;
    else if (media && responseTypes) describeFormats(response, responseTypes, media);
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

function describeFormats(response: OperationResponse, types: readonly string[], media: Media): void {
  const others = types.filter((type) => type !== 'application/json');
  if (others.length === types.length) response.content = Object.fromEntries(types.map((type) => [type, textOf(type)]));
  else {
    response.content = { 'application/json': media };
    response['x-other-formats'] = Object.fromEntries(
      others.map((type) => [type, { $ref: `#/components/responses/${TEXTS[type]!.name}` }]),
    );
  }
}

function textOf(type: string): Media {
  return type === 'text/plain' ? { schema: { type: 'string' } } : {};
}
