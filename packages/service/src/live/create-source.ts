import type { WatchTarget } from '@uproar/protocol';
import { prepareReadable } from '../reading/prepare-query.js';
import type { ReadScope } from '../reading/read-scope.js';
import type { Store } from '../store/index.js';
import { CollectionListSource } from './collection-list-source.js';
import { DocumentSource } from './document-source.js';
import { QuerySource } from './query-source.js';
import { isLimited, RelatedSource } from './related-source.js';
import type { Source } from './source.js';
import { SummarySource } from './summary-source.js';
import { WindowSource } from './window-source.js';

/**
 * Creates the source for the target of a watch.
 *
 * @throws {ProblemError} `bad-query`, or `not-allowed`
 */
export function createSource(target: WatchTarget, store: Store, scope: ReadScope): Source {
  if ('doc' in target) return new DocumentSource(store, target.doc, scope);
  if ('collections' in target) return new CollectionListSource(store, scope);
  const query = prepareReadable(target.query, true, store, scope);
  if (query.summary) return new SummarySource(store, query, scope.limits);
  if (query.includes.length > 0) return new RelatedSource(store, query, scope.limits);
  return isLimited(query) ? new WindowSource(store, query, scope.limits) : new QuerySource(store, query, scope.limits);
}
