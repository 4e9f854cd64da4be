import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { compile, evaluate, type Scope } from '../query/evaluate.js';
import { formatText } from '../query/format-text.js';
import { joinName } from '../query/names.js';
import type { Node } from '../query/tree.js';
import type { Claims } from '../query/claims.js';
import { withoutFields } from '../document/field-paths.js';
import { accessFor, type Policy, type RuleName } from './policy.js';

/** An action to evaluate the policy for. */
export interface Attempt {
  collection: string;
  rule: RuleName;
  claims: Claims;
  /** The present document; undefined if there is none. */
  before?: Document | undefined;
  /** The document as it would be written; for read and delete it is left out. */
  after?: Document | undefined;
}

/** What a policy says to an attempt, and why. */
export interface Decision {
  allowed: boolean;
  /** The rule that decided; `read` for every action on a hidden document. */
  rule: RuleName;
  /** The place of the rule in the policy (RFC 6901); null if there is no rule. */
  pointer: string | null;
  /** The rule in CQL2 text. */
  condition: string | null;
  /** The parts that are joined with AND (or OR), and their results; null is unknown, which is not enough. */
  parts: { condition: string; truth: boolean | null }[];
  /** The fields and claims that the rule reads, as written, and their values; no value if missing. */
  values: Record<string, JsonValue>;
  /** The concealed fields. */
  concealed: string[];
  /** A document that may be read, as it would be seen. */
  document?: Document;
}

const LOOK_UPS = new Set(['claim', 'was', 'meta']);

/** Evaluates the policy for an action, without executing it. */
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

/** The fields, claims and earlier values in a condition, and their values. */
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
