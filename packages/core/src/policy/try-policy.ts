import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { compile, evaluate, type Scope } from '../query/evaluate.js';
import { formatText } from '../query/format-text.js';
import { joinName } from '../query/names.js';
import type { Node } from '../query/tree.js';
import type { Claims } from '../query/claims.js';
import { withoutFields } from '../document/field-paths.js';
import { accessFor, type Policy, type RuleName } from './policy.js';

/** Something that somebody might do, to see what a policy says to it. */
export interface Attempt {
  collection: string;
  rule: RuleName;
  claims: Claims;
  /** The document now; undefined where there is none. */
  before?: Document | undefined;
  /** The document as it would be written; for read and delete it is left out. */
  after?: Document | undefined;
}

/** What a policy says to an attempt, and why. */
export interface Decision {
  allowed: boolean;
  /** The rule that decided: for what is hidden from whoever tries that is `read`, whatever they try. */
  rule: RuleName;
  /** Where the rule stands in the policy (RFC 6901); null where there is none, so that it is no. */
  pointer: string | null;
  /** The rule in CQL2 text. */
  condition: string | null;
  /** The parts that are joined with AND (or OR), and what each came to; null is unknown, which is not enough. */
  parts: { condition: string; truth: boolean | null }[];
  /** What the rule looked at, as it is written there, and what it found; nothing where it was missing. */
  values: Record<string, JsonValue>;
  /** The fields that are left out of what is read. */
  concealed: string[];
  /** A document that may be read, as it would be seen. */
  document?: Document;
}

const LOOK_UPS = new Set(['claim', 'was', 'meta']);

/** Tells what a policy says to an attempt, without doing anything. */
export function tryPolicy(policy: Policy, { collection, rule, claims, before, after }: Attempt): Decision {
  const access = accessFor(policy, { claims }, collection);
  const hidden = before !== undefined && !access.allows('read', { document: before });
  const decisive = hidden ? 'read' : rule;
  const scope: Scope =
    decisive === 'read' || !after ? { document: (before ?? after)!, claims } : { document: after, before, claims };
  const node = (policy.collections.get(collection) ?? policy.others).rules[decisive];
  const section = policy.collections.has(collection) ? `/collections/${collection}` : '/default';
  const allowed = access.allows(decisive, scope);
  const decision: Decision = {
    allowed,
    rule: decisive,
    pointer: node ? `${section}/${decisive}` : null,
    condition: node ? formatText(node) : null,
    parts: node ? partsOf(node, scope) : [],
    values: node ? valuesIn(node, scope) : {},
    concealed: access.conceal.map(joinName),
  };
  return allowed && rule === 'read'
    ? { ...decision, document: withoutFields(scope.document, access.conceal) }
    : decision;
}

function partsOf(node: Node, scope: Scope): Decision['parts'] {
  const parts = node.kind === 'call' && (node.name === 'and' || node.name === 'or') ? node.args : [node];
  return parts.map((part) => ({ condition: formatText(part), truth: compile(part)(scope) ?? null }));
}

/** The fields, claims and earlier values that a condition names, and what they are. */
function valuesIn(node: Node, scope: Scope): Record<string, JsonValue> {
  const values = new Map<string, JsonValue>();
  const visit = (part: Node): void => {
    if (part.kind === 'array') part.items.forEach(visit);
    else if (part.kind === 'interval') [part.from, part.to].forEach((end) => end && visit(end));
    else if (part.kind === 'property' || (part.kind === 'call' && LOOK_UPS.has(part.name))) {
      const value = evaluate(part, scope);
      if (value !== undefined) values.set(formatText(part), value);
    } else if (part.kind === 'call') part.args.forEach(visit);
  };
  visit(node);
  return Object.fromEntries(values);
}
