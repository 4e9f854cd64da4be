import { z } from 'zod';
import { Violation } from './schemas.js';

/** A problem report (RFC 9457, section 3). */
export const Problem = z
  .looseObject({
    type: z.string().describe('Names the kind of problem; stable. A URI reference, `/problems/` and a name.'),
    title: z.string().describe('The kind of problem in words; the same in every report of this type.'),
    status: z.int().describe('The HTTP status code.'),
    detail: z.string().describe('What happened here and what to do about it.'),
    pointer: z
      .string()
      .optional()
      .describe(
        'The place at fault, a JSON Pointer (RFC 6901): within the data of the `document` where one is named, else within the body.',
      ),
    position: z.int().optional().describe('The character of the text at fault, counted from 0.'),
    expected: z.array(z.string()).optional().describe('What could have stood at that place instead.'),
    parameter: z.string().optional().describe('The part of the address or the header at fault.'),
    write: z.int().optional().describe('The write of the commit at fault, counted from 0.'),
    document: z.string().optional().describe('The document concerned, as `collection/id`.'),
    read: z.int().optional().describe('The entry of `reads` that is out of date, counted from 0.'),
    rule: z.string().optional().describe('The rule of the policy that refused: read, create, update or delete.'),
    violations: z
      .array(Violation)
      .optional()
      .describe('All that does not fit the schema, as far as it was looked for.'),
    retryAfter: z.int().optional().describe('The seconds to wait before another try.'),
    expectedVersion: z.int().optional().describe('The version that was expected; 0 for none.'),
    currentVersion: z.int().optional().describe("The document's version in the store; 0 where there is none."),
  })
  .meta({ id: 'Problem' });
export type Problem = z.infer<typeof Problem>;
