import type { QueryForm } from '@uproar/core';

/** A query as it is written on the query page. */
export interface BenchQuery {
  from: string;
  where: string;
  order: string;
  limit: string;
  fields: string;
  include: string;
  summary: string;
  by: string;
}

/** Reads the parts of a query other than its collection; what is missing is an empty text. */
export function readParts(part: (name: string) => unknown): Omit<BenchQuery, 'from'> {
  const text = (name: string) => {
    const value = part(name);
    return typeof value === 'string' ? value : '';
  };
  return {
    ...{ where: text('where'), order: text('order'), limit: text('limit'), fields: text('fields') },
    ...{ include: text('include'), summary: text('summary'), by: text('by') },
  };
}

/** The parts of a query that say something. */
export function partsOf({ where, order, limit, fields, include, summary, by }: BenchQuery): Record<string, string> {
  // A summary is over all documents of its condition, and shows nothing else of them.
  const parts = summary === '' ? { where, include, order, limit, fields } : { where, summary, by };
  return Object.fromEntries(Object.entries(parts).filter(([, value]) => value !== ''));
}

/** The query as it is sent to be explained. */
export function formOf(query: BenchQuery): QueryForm {
  const { limit, ...parts } = partsOf(query);
  const number = limit === 'none' ? limit : Number(limit);
  return { from: query.from, ...parts, ...(limit === undefined ? {} : { limit: number }) };
}
