import { readParts, type BenchQuery } from '../queries/bench-query';

/** A document that is compared: now, or as it was at a seq. */
export interface DocumentSide {
  collection: string;
  id: string;
  at: number | undefined;
}

/** Reads the address of a document: `balloons/bl-17`, or `balloons/bl-17@1204` for its state at a seq. */
export function readDocumentSide(text: string): DocumentSide | undefined {
  const match = /^([a-z][a-z0-9-]*)\/([A-Za-z0-9._~-]+)(?:@(\d{1,15}))?$/.exec(text.trim());
  if (!match) return undefined;
  return { collection: match[1]!, id: match[2]!, at: match[3] === undefined ? undefined : Number(match[3]) };
}

/** A result that is compared: live, or as it was at a seq. */
export interface ResultSide {
  query: BenchQuery;
  at: number | undefined;
}

/** Reads a query in the form that the page Query has it in its address, such as `from=balloons&limit=20&at=1204`. */
export function readResultSide(text: string): ResultSide | undefined {
  const parameters = new URLSearchParams(text);
  const from = parameters.get('from');
  if (from === null || from === '') return undefined;
  const at = parameters.get('at') ?? '';
  return {
    query: { from, ...readParts((name) => parameters.get(name)) },
    at: /^\d{1,15}$/.test(at) ? Number(at) : undefined,
  };
}

/** The inverse of {@link readResultSide}. */
export function writeResultSide({ query, at }: ResultSide): string {
  const said = Object.entries(query).filter(([, value]) => value !== '');
  return new URLSearchParams([...said, ...(at === undefined ? [] : [['at', String(at)]])] as [
    string,
    string,
  ][]).toString();
}
