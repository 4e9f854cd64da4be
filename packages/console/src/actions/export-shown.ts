import type { Store } from '@uproar/client';
import type { Columns } from '../table/layout';

/** What documents can be saved as. */
export const FORMATS = [
  { key: 'csv', label: 'CSV, for a spreadsheet', type: 'text/csv' },
  { key: 'ndjson', label: 'NDJSON, one document per line', type: 'application/x-ndjson' },
  { key: 'json', label: 'JSON', type: 'application/json' },
] as const;

/** Saves the documents that a query shows as a file, with the columns that are shown; undefined: all. */
export async function exportShown(
  store: Store,
  query: { collection: string; where: string; order: string },
  columns: Columns | undefined,
  format: (typeof FORMATS)[number]['key'],
): Promise<void> {
  const { type } = FORMATS.find(({ key }) => key === format)!;
  const ndjson = 'application/x-ndjson';
  const parameters = new URLSearchParams({ limit: 'none' });
  if (query.where !== '') parameters.set('where', query.where);
  if (query.order !== '') parameters.set('order', query.order);
  // Fields alone come without bookkeeping, by which then nothing can be ordered either.
  const fields = columns?.shown.value.filter(({ meta }) => !meta) ?? [];
  const some = fields.length < (columns?.all.value.filter(({ meta }) => !meta).length ?? 0);
  if (some && fields.length > 0 && !query.order.includes('meta(')) {
    parameters.set('fields', fields.map(({ key }) => key).join(','));
  }
  const answer = await store.request(
    'GET',
    `/v1/data/${query.collection}?${parameters}`,
    undefined,
    format === 'json' ? ndjson : type,
  );
  const text = await answer.text();
  const content = format === 'json' ? `[${text.trim().split('\n').filter(Boolean).join(',\n')}]\n` : text;
  saveFile(`${query.collection}.${format}`, new Blob([content], { type }));
}

/** Has the browser save items as NDJSON, under a name without an ending. */
export function saveLines(name: string, items: readonly object[]): void {
  const lines = items.map((item) => `${JSON.stringify(item)}\n`);
  saveFile(`${name}.ndjson`, new Blob(lines, { type: 'application/x-ndjson' }));
}

/** Has the browser save a file. */
export function saveFile(name: string, content: Blob): void {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
