import {
  fieldsIn,
  FieldNames,
  valueOfField,
  formatCql2Json,
  formatText,
  joinName,
  MATCHING_KINDS,
  policyFilterFor,
  Matcher,
  namedFields,
  prepareQuery,
  type Document,
  type JsonObject,
  type Node,
  type Query,
} from '@uproar/core';
import { z } from 'zod';
import { adviseIndex, indexFor, summarize, type Reading, type ReadLimits, type Store } from '../store/index.js';
import { isGoverned, type Identity } from '../identity/identity.js';
import type { WireQuery } from '@uproar/protocol';
import { schemaWarnings } from '../schemas/schema-warnings.js';
import { costLimits, wholeCollectionReader, readScopeOf } from './identity-scope.js';
import { describeMissing } from '../reading/name-hints.js';
import { prepareReadable } from '../reading/prepare-query.js';
import type { Context } from './context.js';

/** What a query costs, and what would help. */
export const Explanation = z
  .object({
    where: z.string().nullable().describe('The condition as it was parsed, in CQL2 text.'),
    whereJson: z.unknown().describe('The same in CQL2 JSON.'),
    scan: z
      .enum(['document', 'index', 'full', 'none'])
      .nullable()
      .describe(
        'How the documents are found: by id, by an index scan, by a full scan; `none` if the collection does not exist.',
      ),
    index: z.string().nullable().describe('The index used.'),
    searchedBy: z.array(z.string()).describe('The parts of the condition that the index is searched by.'),
    ordered: z
      .boolean()
      .nullable()
      .describe('Whether the documents are read in the order of the query, so that reading stops at the limit.'),
    documentsRead: z
      .int()
      .nullable()
      .describe('Null for callers that are subject to the policy, because it would reveal hidden documents.'),
    documentsReturned: z.int(),
    more: z.boolean(),
    milliseconds: z.number().nullable(),
    includes: z
      .array(
        z.object({
          name: z.string().describe('The name with its parents: `flights.pad`.'),
          from: z.string(),
          scan: z.enum(['ids', 'index', 'full']).describe('How the related documents are looked up.'),
          index: z.string().nullable(),
        }),
      )
      .describe('How the related documents are found.'),
    matchedBy: z.object({
      kind: z
        .enum(MATCHING_KINDS)
        .describe('How watches are matched: by values, ranges, areas or texts, or by testing every change.'),
      requirements: z.array(z.string()).describe('What a changed document must fulfil to be tested.'),
    }),
    warnings: z
      .array(z.string())
      .describe('Names that no stored document has, and parts of the condition that are never true.'),
    advice: z.array(z.string()),
  })
  .meta({ id: 'Explanation' });
export type Explanation = z.infer<typeof Explanation>;

/** The number of documents that are sampled to learn the types of fields. */
const SAMPLE = 1000;
const COMPARISONS = new Set(['=', '<>', '<', '>', '<=', '>=', 'between', 'in', 'like']);

/**
 * Runs a query and explains its cost. Callers that are subject to the policy get only what does not depend on hidden
 * documents.
 */
export async function explainQuery(
  context: Pick<Context, 'store' | 'schemas' | 'views' | 'identities' | 'accessLimits' | 'budgets'>,
  form: WireQuery,
  identity: Identity,
  holder: string,
): Promise<Explanation> {
  const { store, views } = context;
  const query = prepareReadable(form, true, store, readScopeOf(context, identity, holder));
  const governed = isGoverned(identity);
  const started = performance.now();
  const { plan, documentsRead, returned, more } = await readForCost(
    context,
    query,
    costLimits(context, identity, holder),
  );
  // How a view is matched depends on the watches of others, too, so it is not shown to everyone.
  const matchedBy = governed ? new Matcher().describe(query.asked) : views.describeMatching(query.from, query.where);
  const wasteful = !query.summary && documentsRead >= 100 && documentsRead >= 10 * Math.max(1, returned);
  const schema = governed || !query.asked ? undefined : context.schemas.get(query.from);
  const known = schema && schema.mode !== 'off' ? schemaWarnings(query.asked!, schema.schema as JsonObject) : [];
  const warnings = [...new Set([...known, ...(await findWarnings(context, query, identity))])];
  // An index does not help a condition that can never be true.
  const index = wasteful && warnings.length === 0 ? adviseIndex(query) : undefined;
  const advice =
    index && index !== plan?.index?.fields ? [`An index would help: uproar index create ${query.from} '${index}'`] : [];
  if (matchedBy.kind === 'every-change' && query.where) {
    advice.push(
      'A watch of this query is tested against every change of the collection. Add a condition that few documents meet, such as field = value, joined with AND, to make it cheap.',
    );
  }
  return {
    where: query.asked ? formatText(query.asked) : null,
    whereJson: query.asked ? formatCql2Json(query.asked) : null,
    scan: governed ? null : (plan?.scan ?? 'none'),
    index: governed ? null : (plan?.index?.fields ?? null),
    searchedBy: governed ? [] : (plan?.searchedBy ?? []),
    ordered: governed ? null : (plan?.ordered ?? true),
    documentsRead: governed ? null : documentsRead,
    documentsReturned: returned,
    more,
    milliseconds: governed ? null : Math.round((performance.now() - started) * 1000) / 1000,
    includes: describeIncludes(query, store).map((include) => (governed ? { ...include, index: null } : include)),
    matchedBy,
    warnings,
    advice: governed ? [] : advice,
  };
}

/** Runs a query. A summary returns groups. */
async function readForCost(
  { store }: Pick<Context, 'store'>,
  query: Query,
  limits: ReadLimits,
): Promise<Pick<Reading, 'plan' | 'documentsRead' | 'more'> & { returned: number }> {
  if (query.summary) {
    const { state, documentsRead } = await summarize(store, query, limits);
    return { plan: store.reader.plan(query), documentsRead, returned: state.size, more: false };
  }
  const reading = await store.reader.read(query, query.limit ?? 10_000, limits);
  return { ...reading, returned: reading.found.length };
}

function describeIncludes({ includes }: Query, store: Store, above = ''): Explanation['includes'] {
  return includes.flatMap((include) => {
    const { from } = include.query;
    const name = above + include.name;
    const info = store.collections.get(from);
    const index = include.by && info ? indexFor(include, store.indexes.usable(info.number)) : undefined;
    const scan = include.via ? ('ids' as const) : index ? ('index' as const) : ('full' as const);
    return [{ name, from, scan, index: index?.fields ?? null }, ...describeIncludes(include.query, store, `${name}.`)];
  });
}

/** Compares what a query asks of fields with the fields and types that are there, as far as they may be seen. */
async function findWarnings(
  context: Pick<Context, 'store' | 'identities'>,
  query: Query,
  identity: Identity,
): Promise<string[]> {
  const { store, identities } = context;
  const warnings: string[] = [];
  const named = namedFields(query);
  for (const collection of new Set([query.from, ...named.map((one) => one.collection)])) {
    const access = identities.accessOf(identity, collection);
    if (!store.collections.get(collection)) {
      const seesAll = wholeCollectionReader(context, identity);
      if (!isGoverned(identity) && seesAll(collection)) warnings.push(describeMissing(store, collection, seesAll));
      continue;
    }
    const policyFilter = policyFilterFor(access);
    const sample = prepareQuery({ from: collection, limit: SAMPLE }, () => policyFilter);
    const { found } = await store.reader.read(sample, SAMPLE);
    const documents = found.map(({ document }) => sample.show(document));
    const paths = named.filter((one) => one.collection === collection).map(({ path }) => path);
    warnings.push(...nameWarnings(paths, documents));
    if (query.asked && collection === query.from) warnings.push(...typeWarnings(query.asked, documents));
  }
  return warnings;
}

/** What a condition asks of fields that none of some documents can give. */
export function warningsFor(where: Node, documents: Document[]): string[] {
  return [...nameWarnings(fieldsIn(where), documents), ...typeWarnings(where, documents)];
}

function nameWarnings(paths: readonly (readonly string[])[], documents: Document[]): string[] {
  if (documents.length === 0) return [];
  const names = new FieldNames();
  for (const { data } of documents) names.note(data);
  return [...new Set(paths.map((path) => names.describeMissing(path)).filter((missing) => missing !== undefined))];
}

/** What a condition asks of the values of fields that none of some documents can give. */
function typeWarnings(where: Node, documents: Document[]): string[] {
  const warnings = new Set<string>();
  const visit = (node: Node): void => {
    if (node.kind !== 'call') return;
    node.args.forEach(visit);
    if (COMPARISONS.has(node.name)) warnAboutTypes(node.args, documents, warnings);
  };
  visit(where);
  return [...warnings];
}

function warnAboutTypes(args: readonly Node[], documents: Document[], warnings: Set<string>): void {
  const field = args.find((node) => node.kind === 'property');
  const literals = args
    .flatMap((node) => (node.kind === 'array' ? node.items : node))
    .filter((node) => node.kind === 'literal');
  if (field?.kind !== 'property' || literals.length === 0) return;
  const values = documents
    .map((document) => valueOfField(document, field.path))
    .filter((value) => value !== undefined && value !== null);
  if (values.length === 0) return;
  const wanted = new Set(literals.map((node) => typeof (node as { value: unknown }).value));
  if (values.some((value) => wanted.has(typeof value))) return;
  const kinds = [...new Set(values.map((value) => (Array.isArray(value) ? 'array' : typeof value)))];
  warnings.add(
    `${joinName(field.path)} is compared with a ${[...wanted].join(' or ')}, but in the sampled documents it is always ${kinds.join(' or ')}: this can never be true.`,
  );
}
