import { isObject, type JsonValue } from '../json/json.js';
import { joinName } from './names.js';
import { didYouMean, nearNames } from '../text/near-names.js';
import type { Query } from './prepared-query.js';
import type { Node } from './tree.js';

/** The names of the fields that some documents have, and below each those of the objects that stand there. */
export class FieldNames {
  readonly #below = new Map<string, FieldNames>();
  #objects = 0;

  /** How many objects were noted here; at the top, documents. */
  get objects(): number {
    return this.#objects;
  }

  /** Notes the fields of a document's data. */
  note(data: JsonValue): void {
    if (!isObject(data)) return;
    this.#objects++;
    for (const [name, value] of Object.entries(data)) {
      let below = this.#below.get(name);
      if (!below) this.#below.set(name, (below = new FieldNames()));
      below.note(value);
    }
  }

  /** Names near that of a field which none of the documents has; undefined where one of them has it. */
  findNear(path: readonly string[]): string[] | undefined {
    return this.#nearPaths(path)?.map(joinName);
  }

  #nearPaths([name, ...rest]: readonly string[]): string[][] | undefined {
    const below = this.#below.get(name!);
    if (!below) return nearNames(name!, this.#below.keys()).map((other) => [other, ...rest]);
    return rest.length === 0 ? undefined : below.#nearPaths(rest)?.map((path) => [name!, ...path]);
  }

  /** The hint that no document has a field, with similar names; undefined if one of them has it. */
  describeMissing(path: readonly string[]): string | undefined {
    const near = this.findNear(path);
    return near && `None of the ${this.#objects} sampled documents has the field ${joinName(path)}.${didYouMean(near)}`;
  }
}

/** The fields that a condition names, in the order of their first mention. */
export function fieldsIn(node: Node): string[][] {
  if (node.kind === 'property') return [node.path];
  if (node.kind === 'array') return node.items.flatMap(fieldsIn);
  if (node.kind === 'interval') return [node.from, node.to].flatMap((end) => (end ? fieldsIn(end) : []));
  return node.kind === 'call' ? node.args.flatMap(fieldsIn) : [];
}

/** The fields that a query names as it was asked, each with the collection whose documents should have it. */
export function namedFields(query: Query): { collection: string; path: readonly string[] }[] {
  const { from, asked, askedOrder, fields = [], summary, includes } = query;
  const own = [
    ...(asked ? fieldsIn(asked) : []),
    ...askedOrder.filter(({ meta }) => !meta).map(({ path }) => path),
    ...fields,
    ...(summary ? [...summary.totals.flatMap(({ path }) => (path ? [path] : [])), ...summary.by] : []),
    ...includes.flatMap(({ via }) => (via ? [via] : [])),
  ];
  return [
    ...own.map((path) => ({ collection: from, path })),
    ...includes.flatMap(({ by, query: inner }) => [
      ...(by ? [{ collection: inner.from, path: by }] : []),
      ...namedFields(inner),
    ]),
  ];
}
