import {
  applyAdjustments,
  deepEqual,
  evaluate,
  isObject,
  mergePatch,
  parseExpression,
  place,
  QueryError,
  splitName,
  type Adjustments,
  type Document,
  type JsonObject,
  type Node,
} from '@uproar/core';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { markPosition } from '../arguments/read-data.js';

/** The changes of a rewrite, from the command line. */
export interface RewriteOptions {
  merge?: JsonObject | undefined;
  adjust?: Adjustments | undefined;
  /** `field = expression`, worked out from the document as it was. */
  set?: readonly string[] | undefined;
}

/** Works out what becomes of documents. */
export class Rewriting {
  readonly #options: RewriteOptions;
  readonly #set: { path: string[]; expression: Node }[];

  /** @throws {CommandError} that shows the place of a mistake */
  constructor(options: RewriteOptions) {
    this.#options = options;
    this.#set = (options.set ?? []).map(readAssignment);
    if (!options.merge && !options.adjust && this.#set.length === 0) {
      throw new CommandError('No change is given.', EXIT.usage, 'Use --set, --merge or --adjust.');
    }
  }

  /** The data that a document is to have; undefined where it has it already. */
  apply(document: Document, timeMs: number): JsonObject | undefined {
    const { merge, adjust } = this.#options;
    let data = structuredClone(document.data);
    for (const { path, expression } of this.#set) {
      const value = evaluate(expression, { document });
      // What cannot be worked out, because something is missing, leaves the field as it is.
      if (value !== undefined) place(data, path, value);
    }
    if (merge) data = mergePatch(data, merge) as JsonObject;
    if (adjust) {
      const adjusted = applyAdjustments(data, adjust, timeMs);
      if (isObject(adjusted)) data = adjusted;
    }
    return deepEqual(data, document.data) ? undefined : data;
  }
}

function readAssignment(text: string): { path: string[]; expression: Node } {
  const [, name, rest] = /^\s*((?:"(?:[^"]|"")*"|[^="])+?)\s*=\s*(.*)$/s.exec(text) ?? [];
  if (name === undefined || rest === undefined) {
    throw new CommandError(`"${text}" sets nothing.`, EXIT.usage, `Write it as field = expression: name = trim(name)`);
  }
  try {
    return { path: splitName(name), expression: parseExpression(rest) };
  } catch (error) {
    if (!(error instanceof QueryError)) throw error;
    throw new CommandError(`${error.message}\n${markPosition(rest, error.position ?? 0)}`, EXIT.usage);
  }
}
