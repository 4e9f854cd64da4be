import type { PolicyFilter } from '../query/prepared-query.js';
import type { Node } from '../query/tree.js';
import { bindClaims, joinBound } from './bind.js';
import { concealIn, concealInOrder } from './conceal.js';
import { withoutFields } from '../document/field-paths.js';
import { calls, type Access } from './policy.js';

const policyFilters = new WeakMap<Access, PolicyFilter>();

/** The filter through which a caller with limited access sees queries. */
export function policyFilterFor(access: Access): PolicyFilter {
  let policyFilter = policyFilters.get(access);
  if (!policyFilter) policyFilters.set(access, (policyFilter = makePolicyFilter(access)));
  return policyFilter;
}

function makePolicyFilter(access: Access): PolicyFilter {
  const { conceal } = access;
  return {
    where: (asked) => restrict(asked, access),
    order: conceal.length > 0 ? (order) => concealInOrder(order, conceal) : (order) => order,
    show: conceal.length > 0 ? (document) => withoutFields(document, conceal) : undefined,
    key: conceal,
  };
}

/** The condition of a query with the claims of the caller, without concealed fields, combined with the rule `read`. */
function restrict(asked: Node | undefined, { read, conceal, claims }: Access): Node | undefined {
  const visible = asked && (conceal.length > 0 ? concealIn(asked, conceal) : asked);
  const bound = visible && (calls(visible, 'claim') ? bindClaims(visible, claims) : visible);
  if (read === true && typeof bound !== 'boolean') return bound;
  const joined = joinBound(read, bound ?? true);
  if (joined === true) return undefined;
  return joined === false ? NEVER : joined;
}

const NEVER: Node = { kind: 'literal', value: false };
