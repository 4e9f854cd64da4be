import type { ReadLimits } from '../store/index.js';
import type { QueryScope } from './prepare-query.js';

/** What an identity may read, and how much: the view of the policy that a watch or a list is computed for. */
export interface ReadScope extends QueryScope {
  /** Equal for identities that see the same list of collections. */
  readonly key: string;
  /** The collections named in the policy, whether they hold documents or not. */
  readonly named: Iterable<string>;
  readonly limits: ReadLimits;
  /** The identity or address that memory and work are counted for. */
  readonly holder: string;
  /** The identity that usage is counted for. */
  readonly identity: string;
}
