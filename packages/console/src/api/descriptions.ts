/** A JSON Schema, as far as it is shown. */
export interface Schema {
  $ref?: string;
  type?: string | string[];
  const?: unknown;
  enum?: unknown[];
  description?: string;
  properties?: Record<string, Schema>;
  required?: string[];
  items?: Schema;
  additionalProperties?: Schema | boolean;
  allOf?: Schema[];
  anyOf?: Schema[];
  oneOf?: Schema[];
  format?: string;
  default?: unknown;
}

/** Something that can be asked for, or that comes unasked. */
export interface Entry {
  id: string;
  /** The word before it: a method of HTTP, `call`, or `event`. */
  kind: string;
  title: string;
  about: string;
  description: string | undefined;
  parts: { title: string; schema: Schema; note?: string | undefined }[];
}

export interface Group {
  name: string;
  about: string | undefined;
  entries: Entry[];
}

interface Content {
  description?: string;
  content?: Record<string, { schema?: Schema }>;
  'x-other-formats'?: Record<string, unknown>;
}

interface Operation {
  tags?: string[];
  summary?: string;
  description?: string;
  parameters?: { name: string; in: string; required?: boolean; description?: string; schema?: Schema }[];
  requestBody?: Content;
  responses?: Record<string, Content>;
}

/** An OpenAPI document, as far as it is shown. */
export interface OpenApi {
  paths: Record<string, Record<string, Operation>>;
  tags?: { name: string; description?: string }[];
  components?: { schemas?: Record<string, Schema> };
}

interface Reference {
  $ref: string;
}

/** An AsyncAPI document, as far as it is shown. */
export interface AsyncApi {
  channels: Record<string, { address: string; messages: Record<string, Reference> }>;
  operations: Record<
    string,
    {
      action: 'send' | 'receive';
      channel: Reference;
      summary: string;
      messages: Reference[];
      reply?: { messages: Reference[] };
    }
  >;
  components: {
    schemas: Record<string, Schema>;
    messages: Record<string, { name: string; summary: string; payload: Schema }>;
  };
}

/** The requests that an OpenAPI document describes, group by group. */
export function readRequests({ paths, tags = [] }: OpenApi): Group[] {
  const groups = new Map(
    tags.map(({ name, description }) => [name, { name, about: description, entries: [] as Entry[] }]),
  );
  for (const [path, operations] of Object.entries(paths)) {
    for (const [method, operation] of Object.entries(operations)) {
      const name = operation.tags?.[0] ?? 'other';
      if (!groups.has(name)) groups.set(name, { name, about: undefined, entries: [] });
      groups.get(name)!.entries.push(readRequest(path, method, operation));
    }
  }
  return [...groups.values()].filter(({ entries }) => entries.length > 0);
}

const PLACES: Record<string, string> = { path: 'In the path.', header: 'A header field.' };

function readRequest(path: string, method: string, operation: Operation): Entry {
  const { summary = '', description, parameters = [], requestBody, responses = {} } = operation;
  const properties = Object.fromEntries(
    parameters.map(({ name, in: place, description: says, schema = {} }) => [
      name,
      { ...schema, description: [PLACES[place] ?? '', says ?? ''].filter(Boolean).join(' ') },
    ]),
  );
  const required = parameters.filter((parameter) => parameter.required).map(({ name }) => name);
  return {
    id: `${method}-${path}`,
    kind: method.toUpperCase(),
    title: path,
    about: summary,
    description,
    parts: [
      ...(parameters.length > 0 ? [{ title: 'Parameters', schema: { type: 'object', properties, required } }] : []),
      ...contentsOf('Body', requestBody),
      ...Object.entries(responses)
        .filter(([status]) => status !== 'default')
        .flatMap(([status, response]) => contentsOf(`Answer ${status}`, response)),
    ],
  };
}

/** The parts of a body or an answer that have members, with a word on what else it may come as. */
function contentsOf(
  title: string,
  { content = {}, description, 'x-other-formats': formats = {} }: Content = {},
): Entry['parts'] {
  const types = Object.entries(content).map(([type, { schema = {} }]) => ({ type, schema }));
  const [first] = types;
  if (!first) return [];
  const isJson = ({ type }: { type: string }) => /[/+]json$/.test(type);
  const shown = types.some(isJson) ? types.filter(isJson) : [first];
  const others = [...types.filter((one) => !shown.includes(one)).map(({ type }) => type), ...Object.keys(formats)];
  return shown.map(({ type, schema }, place) => {
    const also = place === 0 && others.length > 0 ? `Also as ${others.join(', ')}.` : '';
    const bytes = type === '*/*' ? 'Bytes of any media type.' : '';
    const plain = type === 'application/json' || type === '*/*';
    const says = [bytes || (title.startsWith('Body') ? '' : noteOf(title, description)), also]
      .filter(Boolean)
      .join(' ');
    return { title: plain ? title : `${title}, ${type}`, schema, note: says === '' ? undefined : says };
  });
}

/** The description of a response, unless it only repeats the status. */
function noteOf(title: string, description = ''): string {
  return ['Answer 200', 'Answer 201', 'Answer 202'].includes(title) && !description.endsWith('.') ? '' : description;
}

/** The calls, notifications and event streams that an AsyncAPI document describes. */
export function readLive({ channels, operations, components }: AsyncApi): Group[] {
  const messageOf = ({ $ref }: Reference) => {
    const [, , channel, , name] = $ref.split('/') as [string, string, string, string, string];
    return components.messages[channels[channel]!.messages[name]!.$ref.split('/').at(-1)!]!;
  };
  const follow = (schema: Schema) =>
    schema.$ref === undefined ? schema : components.schemas[schema.$ref.split('/').at(-1)!]!;
  const groups: Record<'calls' | 'notifications' | 'streams', Group> = {
    calls: { name: 'WebSocket calls', about: 'JSON-RPC 2.0 at /v1/live', entries: [] },
    notifications: { name: 'WebSocket notifications', about: 'what the service sends unasked', entries: [] },
    streams: { name: 'Event streams', about: 'GET with "Accept: text/event-stream"', entries: [] },
  };
  for (const [id, { action, channel, summary: about, messages, reply }] of Object.entries(operations)) {
    const members = (message: Reference) => follow(messageOf(message).payload).properties!;
    const entry = { id, about, description: undefined };
    if (action === 'receive') {
      const parts = [
        { title: 'Parameters', schema: members(messages[0]!).params! },
        { title: 'Result', schema: members(reply!.messages[0]!).result! },
      ];
      groups.calls.entries.push({ ...entry, kind: 'call', title: id.replace('call-', ''), parts });
    } else if (id.startsWith('notify-')) {
      const parts = [{ title: 'Parameters', schema: members(messages[0]!).params! }];
      groups.notifications.entries.push({ ...entry, kind: 'event', title: id.replace('notify-', ''), parts });
    } else {
      const { address } = channels[channel.$ref.split('/').at(-1)!]!;
      const parts = messages.map((message) => {
        const { name, payload, summary: note } = messageOf(message);
        return { title: `event: ${name}`, schema: payload, note };
      });
      groups.streams.entries.push({ ...entry, kind: 'GET', title: address, parts });
    }
  }
  return Object.values(groups);
}

/** A schema in a few words: `string`, `Document[]`, `"none" or integer`. */
export function typeOf(schema: Schema): string {
  const { $ref, type, items, enum: values, anyOf, oneOf, additionalProperties } = schema;
  // Requests and responses are described separately, under names that differ only in this.
  if ($ref)
    return $ref
      .split('/')
      .at(-1)!
      .replace(/Input$/, '');
  if ('const' in schema) return JSON.stringify(schema.const);
  if (values) return values.map((value) => JSON.stringify(value)).join(' or ');
  if (schema.allOf?.length === 1) return typeOf(schema.allOf[0]!);
  const branches = anyOf ?? oneOf;
  if (branches) return [...new Set(branches.map(typeOf))].join(' or ');
  if (type === 'array') return `${items ? bracket(typeOf(items)) : 'any'}[]`;
  if (type === 'object' && typeof additionalProperties === 'object' && !schema.properties) {
    return `object of ${typeOf(additionalProperties)}`;
  }
  return (Array.isArray(type) ? type.join(' or ') : type) ?? 'any';
}

function bracket(type: string): string {
  return type.includes(' ') ? `(${type})` : type;
}

/** The schemas inside another that have members of their own, with the names they go by. */
export function partsOf(schema: Schema, known: Record<string, Schema>): { name?: string; schema: Schema }[] {
  if (schema.$ref) {
    const found = known[schema.$ref.split('/').at(-1)!];
    return found ? partsOf(found, known) : [];
  }
  if (schema.allOf) return schema.allOf.flatMap((part) => partsOf(part, known));
  if (schema.properties) return [{ schema }];
  if (schema.items) return partsOf(schema.items, known);
  if (typeof schema.additionalProperties === 'object') return partsOf(schema.additionalProperties, known);
  const branches = (schema.anyOf ?? schema.oneOf ?? []).map((branch) => ({ branch, inner: partsOf(branch, known) }));
  return branches.flatMap(({ branch, inner }) =>
    inner.map((part) => ({ ...part, name: part.name ?? (branch.$ref ? typeOf(branch) : 'or') })),
  );
}
