import type { QueryParts } from '@uproar/client';
import type { Command } from 'commander';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** The parts of a query as options of a command. */
export interface QueryOptions {
  where?: string;
  order?: string;
  limit?: string;
  after?: string;
  fields?: string;
  include?: string;
  summary?: string;
  by?: string;
}

/** Adds `--where`, `--order` and the other parts of a query to a command. */
export function withQueryOptions(command: Command): Command {
  return command
    .option('--where <condition>', "a condition in CQL2: status = 'aloft' AND altitude > 300")
    .option('--order <fields>', 'fields to sort by, with - for descending: -altitude,name')
    .option('--limit <number>', 'maximum number of documents, or none')
    .option('--fields <fields>', 'the fields wanted: name,pilot.name')
    .option('--include <related>', 'related documents: "crew = crews via crewId; flights by balloonId limit 3"')
    .option('--summary <totals>', 'totals instead of documents: "count(),sum(passengers)"; also avg, min, max')
    .option('--by <fields>', 'fields to group a summary by: status');
}

/** The query that the options ask for. */
export function queryParts(options: QueryOptions): QueryParts {
  const { where, order, limit, after, fields, include, summary, by } = options;
  if (limit !== undefined && limit !== 'none' && !/^\d{1,5}$/.test(limit)) {
    throw new CommandError(
      `"${limit}" is no limit.`,
      EXIT.usage,
      'A limit is a whole number from 1 to 10000, or none.',
    );
  }
  const parts: QueryParts = {
    where,
    order,
    after,
    fields,
    include,
    summary,
    by,
    limit: limit === undefined || limit === 'none' ? limit : Number(limit),
  };
  return Object.fromEntries(Object.entries(parts).filter(([, value]) => value !== undefined));
}
