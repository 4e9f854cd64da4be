/**
 * The pure part of Uproar: what documents are, how they are ordered, patched and compared, and what a commit
 * does to them. No input or output; clock, randomness and ids come in as arguments.
 *
 * @packageDocumentation
 */
import './query/case-folding.js';
import './query/near-distance.js';
import './query/spatial-relations.js';

export * from './adjust.js';
export * from './amounts.js';
export * from './canonical-text.js';
export * from './commit.js';
export * from './diff.js';
export * from './field-changes.js';
export * from './document.js';
export * from './edit.js';
export * from './json.js';
export * from './json-patch.js';
export * from './merge-patch.js';
export * from './order.js';
export * from './parse-json.js';
export * from './pointer.js';
export * from './shapes.js';
export * from './propose-schema.js';
export * from './told.js';
export * from './uuid.js';
export * from './view-state.js';
export * from './window.js';
export * from './related/relations.js';
export * from './related/earlier-relations.js';
export * from './related/related-tree.js';
export * from './summary/exact-sum.js';
export * from './summary/extremes.js';
export * from './summary/summary-state.js';
export * from './policy/bind.js';
export * from './policy/claims.js';
export * from './policy/conceal.js';
export * from './policy/lens.js';
export * from './policy/permit.js';
export * from './policy/policy.js';
export * from './policy/try-policy.js';
export * from './query/cql2-json.js';
export * from './query/describe-form.js';
export * from './query/evaluate.js';
export * from './query/field-names.js';
export * from './query/fields.js';
export * from './query/format-text.js';
export * from './query/names.js';
export * from './query/near-names.js';
export * from './query/operators.js';
export * from './query/order-terms.js';
export * from './query/parse-text.js';
export * from './query/query.js';
export * from './query/cursor.js';
export * from './query/projection.js';
export * from './query/include.js';
export * from './query/include-text.js';
export * from './query/summary.js';
export * from './query/tree.js';
export * from './query/work.js';
export * from './matcher/matcher.js';
export * from './matcher/interests.js';
export * from './query/conditions.js';
export * from './query/index-key.js';
