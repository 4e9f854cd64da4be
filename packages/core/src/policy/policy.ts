import { isCollectionName, type Document } from '../document/document.js';
import { isObject, type JsonObject, type JsonValue } from '../json/json.js';
import { parseCql2Json } from '../query/cql2-json.js';
import { compile, type Predicate, type Scope } from '../query/evaluate.js';
import { splitName } from '../query/names.js';
import { didYouMean, nearNames } from '../text/near-names.js';
import { parseText } from '../query/parse-text.js';
import { QueryError, type Node } from '../query/tree.js';
import { WorkLimitError, WorkMeter } from '../query/work.js';
import { bindClaims, type BoundCondition } from './bind.js';
import type { Claims } from '../query/claims.js';
import type { Paths } from '../document/field-paths.js';

/** What may be allowed: a rule each. */
export const RULES = ['read', 'create', 'update', 'delete'] as const;
export type RuleName = (typeof RULES)[number];

/** The rules of one collection, as conditions. Without a rule, nothing is allowed. */
export interface CollectionRules {
  readonly rules: Readonly<Partial<Record<RuleName, Node>>>;
  /** Fields that are concealed, except from callers whose claims satisfy the condition. */
  readonly conceal: readonly { readonly path: readonly string[]; readonly unless: Node | undefined }[];
}

/** Who may read, create, update and delete what. */
export interface Policy {
  /** Whether those take part who send neither key nor token; they have no claims. */
  readonly anonymous: boolean;
  readonly collections: ReadonlyMap<string, CollectionRules>;
  /** The rules of the collections that are not named. */
  readonly others: CollectionRules;
}

/** What the rules of one collection come to for one identity. */
export interface Access extends Readonly<Record<RuleName, BoundCondition>> {
  readonly claims: Claims;
  readonly conceal: Paths;
  /** Evaluates a rule on a document; compiled once. */
  allows(rule: RuleName, scope: Scope): boolean;
}

/**
 * The rights of a caller: a key with a scope, optionally restricted to collections, or claims that the policy
 * evaluates.
 */
export type Rights =
  | { readonly scope: 'admin' | 'write' | 'read'; readonly collections?: readonly string[] | undefined }
  | { readonly claims: Claims };

/** A policy that cannot be, with the place of the fault (RFC 6901), and the position where it is within a rule. */
export class PolicyError extends Error {
  override name = 'PolicyError';
  constructor(
    message: string,
    readonly pointer: string,
    readonly position?: number,
  ) {
    super(message);
  }
}

const NO_RULES: CollectionRules = { rules: {}, conceal: [] };

/** The policy of a store without one: only keys have access. */
export const CLOSED: Policy = { anonymous: false, collections: new Map(), others: NO_RULES };

/**
 * Reads a policy.
 *
 * @throws {PolicyError} for the first thing that is wrong
 */
export function readPolicy(value: JsonValue): Policy {
  const form = objectAt(value, '');
  checkMembers(form, ['anonymous', 'collections', 'default'], '');
  const { anonymous = false } = form;
  if (typeof anonymous !== 'boolean') throw new PolicyError('"anonymous" is true or false.', '/anonymous');
  const collections = new Map<string, CollectionRules>();
  for (const [name, rules] of Object.entries(objectAt(form.collections ?? {}, '/collections'))) {
    const pointer = `/collections/${name}`;
    if (!isCollectionName(name)) throw new PolicyError(`"${name}" is not a valid collection name.`, pointer);
    collections.set(name, readRules(rules, pointer));
  }
  return {
    anonymous,
    collections,
    others: form.default === undefined ? NO_RULES : readRules(form.default, '/default'),
  };
}

function readRules(value: JsonValue, pointer: string): CollectionRules {
  const form = objectAt(value ?? {}, pointer);
  checkMembers(form, [...RULES, 'conceal'], pointer);
  const rules: Partial<Record<RuleName, Node>> = {};
  for (const name of RULES) {
    if (form[name] === undefined) continue;
    const node = readCondition(form[name], `${pointer}/${name}`);
    if (name !== 'update' && calls(node, 'was')) {
      throw new PolicyError(
        `was() is the value before an update; it is not available in ${name}.`,
        `${pointer}/${name}`,
      );
    }
    rules[name] = node;
  }
  return { rules, conceal: readConceal(form.conceal ?? [], `${pointer}/conceal`) };
}

function readConceal(value: JsonValue, pointer: string): CollectionRules['conceal'] {
  if (!Array.isArray(value)) throw new PolicyError('"conceal" is a list of fields.', pointer);
  return value.map((entry, index) => {
    const place = `${pointer}/${index}`;
    if (typeof entry === 'string') return { path: readPath(entry, place), unless: undefined };
    const form = objectAt(entry, place);
    checkMembers(form, ['field', 'unless'], place);
    if (typeof form.field !== 'string') throw new PolicyError('The name of a field is missing.', `${place}/field`);
    const unless = readCondition(form.unless ?? false, `${place}/unless`);
    if (dependsOnDocument(unless)) {
      throw new PolicyError('"unless" may only use claims.', `${place}/unless`);
    }
    return { path: readPath(form.field, `${place}/field`), unless };
  });
}

function readPath(name: string, pointer: string): string[] {
  try {
    return splitName(name);
  } catch (error) {
    throw new PolicyError((error as QueryError).message, pointer);
  }
}

/** A condition in CQL2 text or JSON, or a truth value. It is compiled here once, so that errors show early. */
function readCondition(value: JsonValue, pointer: string): Node {
  if (typeof value === 'boolean') return { kind: 'literal', value };
  if (typeof value !== 'string' && !isObject(value)) {
    throw new PolicyError('A rule is a condition in CQL2: text, or CQL2 JSON.', pointer);
  }
  try {
    const node = typeof value === 'string' ? parseText(value) : parseCql2Json(value);
    compile(node);
    return node;
  } catch (error) {
    if (!(error instanceof QueryError)) throw error;
    const expected = error.expected.length > 0 ? ` Expected: ${error.expected.join(', ')}.` : '';
    throw new PolicyError(error.message + expected, pointer + (error.pointer ?? ''), error.position);
  }
}

function objectAt(value: JsonValue, pointer: string): JsonObject {
  if (isObject(value)) return value;
  throw new PolicyError(`${pointer === '' ? 'A policy' : `What stands at ${pointer}`} must be an object.`, pointer);
}

function checkMembers(form: JsonObject, known: readonly string[], pointer: string): void {
  for (const name of Object.keys(form)) {
    if (known.includes(name)) continue;
    const near = didYouMean(nearNames(name, known));
    throw new PolicyError(
      `"${name}" is not allowed here.${near} Allowed are: ${known.join(', ')}.`,
      `${pointer}/${name}`,
    );
  }
}

/** Whether a condition calls a function anywhere. */
export function calls(node: Node, name: string): boolean {
  return someNode(node, (part) => part.kind === 'call' && part.name === name);
}

function dependsOnDocument(node: Node): boolean {
  return someNode(
    node,
    (part) => part.kind === 'property' || (part.kind === 'call' && (part.name === 'meta' || part.name === 'was')),
  );
}

function someNode(node: Node, test: (node: Node) => boolean): boolean {
  if (test(node)) return true;
  if (node.kind === 'array') return node.items.some((item) => someNode(item, test));
  if (node.kind === 'interval') return [node.from, node.to].some((end) => end !== undefined && someNode(end, test));
  return node.kind === 'call' && node.args.some((arg) => someNode(arg, test));
}

const known = new WeakMap<Policy, WeakMap<Rights, Map<string, Access>>>();

/** The access of a caller to a collection. */
export function accessFor(policy: Policy, rights: Rights, collection: string): Access {
  let ofPolicy = known.get(policy);
  if (!ofPolicy) known.set(policy, (ofPolicy = new WeakMap()));
  let ofRights = ofPolicy.get(rights);
  if (!ofRights) ofPolicy.set(rights, (ofRights = new Map()));
  let access = ofRights.get(collection);
  if (!access) ofRights.set(collection, (access = workOut(policy, rights, collection)));
  return access;
}

function workOut(policy: Policy, rights: Rights, collection: string): Access {
  if ('scope' in rights) return keyAccess(rights, collection);
  const { claims } = rights;
  const { rules, conceal } = policy.collections.get(collection) ?? policy.others;
  const bind = (name: RuleName): BoundCondition => {
    const rule = rules[name];
    return rule === undefined ? false : bindClaims(rule, claims);
  };
  return makeAccess(
    { read: bind('read'), create: bind('create'), update: bind('update'), delete: bind('delete') },
    claims,
    conceal.filter(({ unless }) => unless === undefined || bindClaims(unless, claims) !== true).map(({ path }) => path),
  );
}

const NO_CLAIMS: Claims = {};
const READ_ONLY = makeAccess({ read: true, create: false, update: false, delete: false }, NO_CLAIMS, []);
const NOTHING = makeAccess({ read: false, create: false, update: false, delete: false }, NO_CLAIMS, []);

/** Everything is allowed, and nothing concealed. */
export const FULL_ACCESS = makeAccess({ read: true, create: true, update: true, delete: true }, NO_CLAIMS, []);

function keyAccess({ scope, collections }: Extract<Rights, { scope: unknown }>, collection: string): Access {
  if (collections && !collections.includes(collection)) return NOTHING;
  return scope === 'read' ? READ_ONLY : FULL_ACCESS;
}

function makeAccess(rules: Record<RuleName, BoundCondition>, claims: Claims, conceal: Paths): Access {
  const predicates: Partial<Record<RuleName, Predicate>> = {};
  const work = new WorkMeter();
  return {
    ...rules,
    claims,
    conceal,
    allows(rule, scope) {
      const bound = rules[rule];
      if (typeof bound === 'boolean') return bound;
      work.begin();
      try {
        const { document, before } = scope;
        return (predicates[rule] ??= compile(bound))({ document, before, claims: scope.claims, work }) === true;
      } catch (error) {
        // A rule that takes too much work does not allow the action.
        if (error instanceof WorkLimitError) return false;
        throw error;
      }
    },
  };
}

/** Whether a caller sees a document at all. */
export function sees(access: Access, document: Document): boolean {
  return access.allows('read', { document });
}

/** Whether an access shows every document without concealing fields. */
export function seesEverything({ read, conceal }: Access): boolean {
  return read === true && conceal.length === 0;
}
