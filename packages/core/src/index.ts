/**
 * The pure part of Uproar: what documents are, how they are ordered, patched and compared, and what a commit
 * does to them. No input or output; clock, randomness and ids come in as arguments.
 *
 * @packageDocumentation
 */
export * from './write/adjust.js';
export * from './text/amounts.js';
export * from './json/canonical-text.js';
export * from './write/commit.js';
export * from './json/diff.js';
export * from './json/field-changes.js';
export * from './document/document.js';
export * from './write/edit.js';
export * from './enable-full-queries.js';
export * from './json/group-digits.js';
export * from './json/json.js';
export * from './json/json-patch.js';
export * from './json/merge-patch.js';
export * from './json/order.js';
export * from './json/parse-json.js';
export * from './json/pointer.js';
export * from './shape/shapes.js';
export * from './shape/propose-schema.js';
export * from './views/patch-tracker.js';
export * from './document/field-paths.js';
export * from './document/uuid.js';
export * from './views/view-state.js';
export * from './views/window.js';
export * from './related/relations.js';
export * from './related/earlier-relations.js';
export * from './related/related-tree.js';
export * from './summary/exact-sum.js';
export * from './summary/extremes.js';
export * from './summary/summary-state.js';
export * from './policy/bind.js';
export * from './query/claims.js';
export * from './policy/conceal.js';
export * from './policy/policy-filter.js';
export * from './write/permit.js';
export * from './policy/policy.js';
export * from './policy/try-policy.js';
export * from './query/cql2-json.js';
export * from './query/describe-form.js';
export * from './query/evaluate.js';
export * from './query/field-names.js';
export * from './query/fields.js';
export * from './query/format-text.js';
export * from './query/names.js';
export { findNearNames } from './text/find-near-names.js';
export * from './text/near-names.js';
export * from './query/operators.js';
export * from './query/order-terms.js';
export * from './query/parse-text.js';
export * from './query/read-instant.js';
export * from './query/query-form.js';
export * from './query/prepared-query.js';
export * from './query/query.js';
export * from './query/cursor.js';
export * from './query/projection.js';
export * from './query/include.js';
export * from './query/include-text.js';
export * from './query/summary.js';
export * from './query/tree.js';
export * from './query/work.js';
export * from './matcher/matcher.js';
export * from './matcher/dependency-index.js';
export * from './query/conditions.js';
export * from './query/index-key.js';
