import { PROBLEM_TYPE_PREFIX, ProblemError } from './problem-error.js';
import type { Problem } from './problems.js';

/**
 * Every problem the service reports (RFC 9457), by the last part of its `type`. `title` never changes for one
 * type; the `detail` of each report tells what to do about that very case.
 */
export const PROBLEMS = {
  'bad-request': { status: 400, title: 'The request does not have the form it must have' },
  'bad-json': { status: 400, title: 'The body is not acceptable JSON' },
  'bad-id': { status: 400, title: 'The text cannot be the id of a document' },
  'bad-collection': { status: 400, title: 'The text cannot be the name of a collection' },
  'bad-query': { status: 400, title: 'The query cannot be understood' },
  'bad-cursor': { status: 400, title: 'The cursor does not belong to this listing' },
  'bad-policy': { status: 422, title: 'The policy cannot be understood' },
  'bad-schema': { status: 422, title: 'The schema cannot be understood' },
  'schema-violation': { status: 422, title: 'The data does not fit the schema of its collection' },
  'stored-violations': { status: 409, title: 'Stored documents do not fit the schema' },
  'query-too-costly': { status: 422, title: 'The query takes more work or memory than it may' },
  'commit-too-costly': { status: 422, title: 'The commit takes more work or memory than it may' },
  'budget-exceeded': { status: 429, title: 'The budget of bytes is used up' },
  'index-missing': { status: 422, title: 'What is included cannot be looked up without an index' },
  'bad-document': { status: 422, title: 'The data cannot be kept as a document' },
  'too-large': { status: 413, title: 'The request is larger than the store accepts' },
  'key-missing': { status: 401, title: 'No key was sent' },
  'key-unknown': { status: 401, title: 'The key is not known here' },
  'ticket-unknown': { status: 401, title: 'The ticket is not good' },
  'token-refused': { status: 401, title: 'The token is not good here' },
  'token-expired': { status: 401, title: 'The token has expired' },
  'sign-in-failed': { status: 401, title: 'The name and the password do not go together' },
  'not-allowed': { status: 403, title: 'The policy does not allow this' },
  'admin-only': { status: 403, title: 'This takes a key that may administer the store' },
  'origin-refused': { status: 403, title: 'Pages of this origin may not use the store' },
  'accounts-off': { status: 403, title: 'Accounts of this kind are not to be had here' },
  'no-such-route': { status: 404, title: 'Nothing is served at this address' },
  'no-such-document': { status: 404, title: 'There is no such document' },
  'no-such-index': { status: 404, title: 'There is no such index' },
  'no-such-backup': { status: 404, title: 'There is no such backup' },
  'no-such-watch': { status: 404, title: 'This connection has no such watch' },
  'no-such-key': { status: 404, title: 'There is no such key' },
  'no-such-account': { status: 404, title: 'There is no such account' },
  'no-such-connection': { status: 404, title: 'There is no such connection' },
  'no-such-schema': { status: 404, title: 'The collection has no schema' },
  'no-such-version': { status: 404, title: 'There is no such version' },
  'method-not-allowed': { status: 405, title: 'The address does not take this method' },
  'not-acceptable': { status: 406, title: 'The answer cannot be given in a format the request accepts' },
  'key-exists': { status: 409, title: 'There is a key of this name already' },
  'account-exists': { status: 409, title: 'There is an account of this name already' },
  'document-exists': { status: 409, title: 'The document exists already' },
  'version-mismatch': { status: 409, title: 'The document is not at the version that was expected' },
  'backup-not-ready': { status: 409, title: 'The backup is not ready' },
  'outcome-unknown': { status: 409, title: 'Whether the write was applied is not known' },
  'test-failed': { status: 409, title: 'A test of the patch does not hold' },
  'patch-failed': { status: 409, title: 'The patch does not fit the document' },
  'adjust-failed': { status: 409, title: 'A field does not take the adjustment' },
  'id-reused': { status: 422, title: 'The id belongs to another commit' },
  'precondition-failed': { status: 412, title: 'A condition of the request does not hold' },
  'range-not-there': { status: 416, title: 'The content does not have the part that was asked for' },
  'unsupported-type': { status: 415, title: 'The content type is not one this address takes' },
  'seq-ahead': { status: 400, title: 'The store has not come so far' },
  'journal-cut': { status: 410, title: 'The journal does not reach back so far' },
  'too-many-requests': { status: 429, title: 'Too much was asked in too short a time' },
  'too-many': { status: 429, title: 'There are as many as there may be' },
  'keys-unavailable': { status: 503, title: 'The keys that tokens are verified by cannot be had' },
  internal: { status: 500, title: 'The service failed' },
  overloaded: { status: 503, title: 'The service has too much to do just now' },
  'read-broken-off': { status: 503, title: 'The read held on to an old state for too long' },
  'storage-failed': { status: 503, title: 'The store could not write to its disk' },
  stopping: { status: 503, title: 'The service is stopping' },
} as const;

/** The last part of a problem's `type`. */
export type ProblemName = keyof typeof PROBLEMS;

/** Builds the report of a problem. `extra` adds members such as `pointer`. */
export function createProblem(name: ProblemName, detail: string, extra: Partial<Problem> = {}): Problem {
  const { status, title } = PROBLEMS[name];
  return { type: PROBLEM_TYPE_PREFIX + name, title, status, detail, ...extra };
}

/** The name of a problem, from its type. Undefined for a type this catalogue does not have. */
export function problemName(problem: Pick<Problem, 'type'>): ProblemName | undefined {
  const name = problem.type.slice(PROBLEM_TYPE_PREFIX.length);
  return problem.type.startsWith(PROBLEM_TYPE_PREFIX) && Object.hasOwn(PROBLEMS, name)
    ? (name as ProblemName)
    : undefined;
}

/** A problem of the catalogue as an error that can be thrown. */
export function problemError(name: ProblemName, detail: string, extra: Partial<Problem> = {}): ProblemError {
  return new ProblemError(createProblem(name, detail, extra));
}
