import type { QueryForm } from './query-form.js';

/** What a query says beside its collection, in a line for people: `where status = 'aloft' order -altitude limit 20`. */
export function describeForm({ where, order, limit, fields, include, summary, by }: Omit<QueryForm, 'from'>): string {
  const inText = (value: unknown) => (typeof value === 'string' ? value : JSON.stringify(value));
  const parts = [
    summary && `summary ${summary}`,
    by && `by ${by}`,
    where !== undefined && where !== '' && `where ${inText(where)}`,
    order && `order ${order}`,
    limit !== undefined && limit !== 'none' && `limit ${limit}`,
    fields && `fields ${fields}`,
    include && `include ${inText(include)}`,
  ];
  return parts.filter(Boolean).join(' ');
}
