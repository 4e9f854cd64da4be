import { z } from 'zod';
import { Violation } from './schemas.js';

/** A problem report (RFC 9457, section 3). */
export const Problem = z
  .looseObject({
    type: z.string().describe('The problem type, a stable URI reference: `/problems/` and a name.'),
    title: z.string().describe('A summary of the problem type; the same in every report.'),
    status: z.int().describe('The HTTP status code.'),
    detail: z.string().describe('What happened here and what to do about it.'),
    pointer: z
      .string()
      .optional()
      .describe(
        'The place of the error, a JSON Pointer (RFC 6901): within the data of `document` if that is present, otherwise within the body.',
      ),
    position: z.int().optional().describe('The position of the error in the text, counted from 0.'),
    expected: z.array(z.string()).optional().describe('What could have stood at that place instead.'),
    parameter: z.string().optional().describe('The query parameter or header with the error.'),
    write: z.int().optional().describe('The index of the write with the error, counted from 0.'),
    document: z.string().optional().describe('The document concerned, as `collection/id`.'),
    read: z.int().optional().describe('The index of the outdated entry of `reads`, counted from 0.'),
    rule: z.string().optional().describe('The rule of the policy that refused: read, create, update or delete.'),
    violations: z.array(Violation).optional().describe('The schema violations that were found.'),
    retryAfter: z.int().optional().describe('The seconds to wait before another try.'),
    expectedVersion: z.int().optional().describe('The version that was expected; 0 for none.'),
    currentVersion: z.int().optional().describe('The version of the document in the store; 0 if it does not exist.'),
  })
  .meta({ id: 'Problem' });
export type Problem = z.infer<typeof Problem>;
