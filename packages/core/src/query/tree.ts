import type { JsonObject, JsonValue } from '../json/json.js';

/** A geometry of GeoJSON (RFC 7946, section 3.1). */
export interface Geometry {
  type: string;
  coordinates?: JsonValue;
  geometries?: Geometry[];
}

/** What a condition is made of. `at` is the character of the text it begins at, where it came from text. */
export type Node = { at?: number } & (
  | { kind: 'literal'; value: string | number | boolean }
  /** What the condition of an identity looks up in its claims and does not find, or may not see of a document. */
  | { kind: 'missing' }
  | { kind: 'object'; value: JsonObject }
  /** `without`: fields inside it that are as if they were missing. */
  | { kind: 'property'; path: string[]; without?: string[][] }
  | { kind: 'array'; items: Node[] }
  /** `instant`: picoseconds since 1970. */
  | { kind: 'date' | 'timestamp'; text: string; instant: bigint }
  | { kind: 'interval'; from: Node | undefined; to: Node | undefined }
  | { kind: 'geometry'; geometry: Geometry }
  | { kind: 'bbox'; box: number[] }
  | { kind: 'call'; name: string; args: Node[] }
);

/** A node that calls an operator or a function. */
export type CallNode = Extract<Node, { kind: 'call' }>;

/** How many nodes a condition may have, and how deep they may be nested: more is refused, never attempted. */
export const QUERY_LIMITS = { nodes: 20_000, depth: 100, characters: 256 * 1024 } as const;

/** Why a query was refused. `position` counts UTF-16 code units from 0; `pointer` is a place in CQL2 JSON. */
export class QueryError extends Error {
  override name = 'QueryError';
  constructor(
    message: string,
    readonly position?: number,
    readonly pointer?: string,
    /** What could have stood there instead. */
    readonly expected: readonly string[] = [],
  ) {
    super(message);
  }
}
