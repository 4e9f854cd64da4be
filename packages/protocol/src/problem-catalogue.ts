import { PROBLEM_TYPE_PREFIX, ProblemError } from './problem-error.js';
import type { Problem } from './problems.js';

/**
 * Every problem the service reports (RFC 9457), by the last part of its `type`. The `title` of a type never changes. The
 * `detail` of a report says what happened and what to do.
 */
export const PROBLEMS = {
  'bad-request': { status: 400, title: 'The request is malformed' },
  'bad-json': { status: 400, title: 'The body is not valid JSON' },
  'bad-id': { status: 400, title: 'The document id is invalid' },
  'bad-collection': { status: 400, title: 'The collection name is invalid' },
  'bad-query': { status: 400, title: 'The query is invalid' },
  'bad-cursor': { status: 400, title: 'The cursor is invalid for this query' },
  'bad-policy': { status: 422, title: 'The policy is invalid' },
  'bad-schema': { status: 422, title: 'The schema is invalid' },
  'schema-violation': { status: 422, title: 'The data violates the schema of its collection' },
  'stored-violations': { status: 409, title: 'Stored documents violate the schema' },
  'query-too-costly': { status: 422, title: 'The query exceeds a limit for work or memory' },
  'commit-too-costly': { status: 422, title: 'The commit exceeds a limit for work or memory' },
  'budget-exceeded': { status: 429, title: 'The memory budget is exhausted' },
  'address-refused': { status: 422, title: 'Hooks may not deliver to this address' },
  'index-missing': { status: 422, title: 'An include needs an index' },
  'bad-document': { status: 422, title: 'The data cannot be stored as a document' },
  'too-large': { status: 413, title: 'The request is too large' },
  'key-missing': { status: 401, title: 'A key or token is required' },
  'key-unknown': { status: 401, title: 'The key is unknown' },
  'ticket-invalid': { status: 401, title: 'The ticket is invalid' },
  'token-invalid': { status: 401, title: 'The token is invalid' },
  'token-expired': { status: 401, title: 'The token has expired' },
  'sign-in-failed': { status: 401, title: 'The name or the password is wrong' },
  'not-allowed': { status: 403, title: 'The policy does not allow this' },
  'admin-only': { status: 403, title: 'This requires an admin key' },
  'origin-refused': { status: 403, title: 'Pages of this origin are not allowed' },
  'accounts-off': { status: 403, title: 'Accounts of this kind are disabled' },
  'no-such-route': { status: 404, title: 'The address does not exist' },
  'no-such-document': { status: 404, title: 'The document does not exist' },
  'no-such-index': { status: 404, title: 'The index does not exist' },
  'no-such-backup': { status: 404, title: 'The backup does not exist' },
  'no-such-watch': { status: 404, title: 'The connection does not have this watch' },
  'no-such-key': { status: 404, title: 'The key does not exist' },
  'no-such-hook': { status: 404, title: 'The hook does not exist' },
  'no-such-delivery': { status: 404, title: 'The delivery is not on record' },
  'no-such-account': { status: 404, title: 'The account does not exist' },
  'no-such-connection': { status: 404, title: 'The connection does not exist' },
  'no-such-erasure': { status: 404, title: 'The erasure does not exist' },
  'no-such-schema': { status: 404, title: 'The collection has no schema' },
  'no-cluster': { status: 404, title: 'The store is on one node' },
  'no-such-version': { status: 404, title: 'The version does not exist' },
  'method-not-allowed': { status: 405, title: 'The method is not allowed for this address' },
  'not-acceptable': { status: 406, title: 'The requested format is not available' },
  'key-exists': { status: 409, title: 'A key with this name exists already' },
  'hook-exists': { status: 409, title: 'A hook with this name exists already' },
  'account-exists': { status: 409, title: 'An account with this name exists already' },
  'document-exists': { status: 409, title: 'The document exists already' },
  'version-mismatch': { status: 409, title: 'The document does not have the expected version' },
  'backup-not-ready': { status: 409, title: 'The backup is not ready yet' },
  'nodes-too-old': { status: 409, title: 'Some nodes have an older version' },
  'outcome-unknown': { status: 409, title: 'It is unknown whether the write was applied' },
  'test-failed': { status: 409, title: 'A test of the patch failed' },
  'patch-failed': { status: 409, title: 'The patch cannot be applied to the document' },
  'adjust-failed': { status: 409, title: 'The adjustment cannot be applied to the field' },
  'id-reused': { status: 422, title: 'The idempotency key was used for another commit' },
  'precondition-failed': { status: 412, title: 'A condition of the request failed' },
  'range-not-satisfiable': { status: 416, title: 'The requested range is not available' },
  'unsupported-type': { status: 415, title: 'The content type is not supported here' },
  'seq-ahead': { status: 400, title: 'The seq does not exist yet' },
  erased: { status: 410, title: 'The document was erased with its past' },
  'journal-truncated': { status: 410, title: 'The journal does not reach back that far' },
  'too-many-requests': { status: 429, title: 'Rate limit exceeded' },
  'limit-reached': { status: 429, title: 'Limit reached' },
  'jwks-unavailable': { status: 503, title: 'The keys for verifying tokens are unavailable' },
  internal: { status: 500, title: 'The service failed' },
  behind: { status: 503, title: 'The node has not caught up' },
  'no-quorum': { status: 503, title: 'The cluster has no quorum' },
  unconfirmed: { status: 503, title: 'The outcome is not known yet' },
  overloaded: { status: 503, title: 'The service is overloaded' },
  'read-aborted': { status: 503, title: 'The read took too long and was aborted' },
  'storage-failed': { status: 503, title: 'The store cannot write to its disk' },
  stopping: { status: 503, title: 'The service is stopping' },
} as const;

/** The last part of a problem's `type`. */
export type ProblemName = keyof typeof PROBLEMS;

/** Creates a problem report. `extra` adds members such as `pointer`. */
export function createProblem(name: ProblemName, detail: string, extra: Partial<Problem> = {}): Problem {
  const { status, title } = PROBLEMS[name];
  return { type: PROBLEM_TYPE_PREFIX + name, title, status, detail, ...extra };
}

/** The name of a problem. Undefined for a type that is not in this catalogue. */
export function problemName(problem: Pick<Problem, 'type'>): ProblemName | undefined {
  const name = problem.type.slice(PROBLEM_TYPE_PREFIX.length);
  return problem.type.startsWith(PROBLEM_TYPE_PREFIX) && Object.hasOwn(PROBLEMS, name)
    ? (name as ProblemName)
    : undefined;
}

/** A problem of the catalogue as an error to throw. */
export function problemError(name: ProblemName, detail: string, extra: Partial<Problem> = {}): ProblemError {
  return new ProblemError(createProblem(name, detail, extra));
}
