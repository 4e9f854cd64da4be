import {
  bindClaims,
  calls,
  didYouMean,
  findRequirements,
  joinName,
  nearNames,
  prepareQuery,
  RULES,
  valueOfField,
  type CollectionRules,
  type Document,
  type Node,
  type Policy,
  type Requirement,
} from '@uproar/core';
import type { PolicyWarning } from '@uproar/protocol';
import { warningsFor } from './explain.js';
import type { Store } from '../store/index.js';

/** The number of documents of each collection that are sampled. */
const SAMPLE = 1000;

/** Finds likely mistakes in a policy: rules that are never true, and fields and collections that do not exist. */
export async function findPolicyWarnings(policy: Policy, store: Store): Promise<PolicyWarning[]> {
  const warnings: PolicyWarning[] = [];
  for (const [name, rules] of policy.collections) {
    const pointer = `/collections/${name}`;
    warnings.push(...findRuleWarnings(rules, pointer, policy.anonymous));
    if (!store.collections.get(name)) {
      const near = nearNames(
        name,
        store.collections.list().map((info) => info.name),
      );
      warnings.push({ pointer, message: `The collection "${name}" does not exist.${didYouMean(near)}` });
      continue;
    }
    const { found } = await store.reader.read(prepareQuery({ from: name, limit: SAMPLE }), SAMPLE);
    const documents = found.map(({ document }) => document);
    warnings.push(...findFieldWarnings(rules, pointer, documents));
  }
  warnings.push(...findRuleWarnings(policy.others, '/default', policy.anonymous));
  return warnings;
}

function findRuleWarnings({ rules }: CollectionRules, pointer: string, anonymous: boolean): PolicyWarning[] {
  const warnings: PolicyWarning[] = [];
  const warn = (rule: string, message: string) => warnings.push({ pointer: `${pointer}/${rule}`, message });
  for (const name of RULES) {
    const rule = rules[name];
    if (!rule) continue;
    const isConstant = rule.kind === 'literal';
    if (!isConstant && ((!calls(rule, 'claim') && bindClaims(rule, {}) === false) || contradicts(rule))) {
      warn(name, 'This is never true, so it allows nothing.');
    }
    if (anonymous && name !== 'read' && bindClaims(rule, {}) === true) {
      warn(name, `Anonymous callers may ${name} here.`);
    }
  }
  const readsNothing = !rules.read || (rules.read.kind === 'literal' && rules.read.value === false);
  for (const name of ['update', 'delete'] as const) {
    const allows = rules[name] && !(rules[name].kind === 'literal' && rules[name].value === false);
    if (readsNothing && allows) {
      warn(
        name,
        `This is never reached: no caller may read this collection, and only readable documents can be changed.`,
      );
    }
  }
  return warnings;
}

/** Whether a condition requires two different values of one field, in each of its alternatives. */
function contradicts(node: Node): boolean {
  const alternatives = findRequirements(node);
  return alternatives !== undefined && alternatives.every(isContradiction);
}

function isContradiction(row: readonly Requirement[]): boolean {
  return row.some((one, index) =>
    row
      .slice(index + 1)
      .some(
        (other) =>
          one.kind === 'equal' &&
          other.kind === 'equal' &&
          one.meta === other.meta &&
          joinName(one.path) === joinName(other.path) &&
          !one.values.some((value) => other.values.includes(value)),
      ),
  );
}

function findFieldWarnings(
  { rules, conceal }: CollectionRules,
  pointer: string,
  documents: Document[],
): PolicyWarning[] {
  const warnings = Object.entries(rules).flatMap(([name, rule]) =>
    warningsFor(rule, documents).map((message) => ({ pointer: `${pointer}/${name}`, message })),
  );
  for (const [index, { path }] of conceal.entries()) {
    if (documents.length === 0 || documents.some((document) => valueOfField(document, path) !== undefined)) continue;
    const message = `None of the ${documents.length} sampled documents has the field ${joinName(path)}.`;
    warnings.push({ pointer: `${pointer}/conceal/${index}`, message });
  }
  return warnings;
}
