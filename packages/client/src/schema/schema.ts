import { formatPointer, type Document, type JsonObject } from '@uproar/core';

/** What a schema found wrong with a value. */
interface Issue {
  readonly message: string;
  readonly path?: readonly (PropertyKey | { readonly key: PropertyKey })[] | undefined;
}

/**
 * A schema for the data of documents: a Zod schema, or any other that implements the Standard Schema interface, version
 * 1. It only validates; transformations are not applied to the store.
 */
export interface Schema<Data> {
  readonly '~standard': {
    readonly version: 1;
    readonly validate: (
      value: unknown,
    ) =>
      | { readonly value: unknown; readonly issues?: undefined }
      | { readonly issues: readonly Issue[] }
      | Promise<unknown>;
    readonly types?: { readonly input: Data } | undefined;
  };
}

/** The schemas of collections, by name: Zod schemas, or any others that follow Standard Schema. */
export type Schemas = Readonly<Record<string, Schema<unknown>>>;

/** The data that a schema stands for. */
export type DataOf<S> = S extends { readonly '~standard': { readonly types?: infer T } }
  ? NonNullable<T> extends { readonly input: infer Data }
    ? Data
    : JsonObject
  : JsonObject;

/** A document that does not fit the schema of its collection. */
export interface SchemaViolation {
  collection: string;
  id: string;
  /** The place in the data, a JSON Pointer (RFC 6901). */
  pointer: string;
  message: string;
}

/** What becomes of a document that does not fit: it is shown as it is, left out, or ends the view. */
export type OnViolation = 'keep' | 'drop' | 'fail';

/** Writes a violation to the console. */
export function printViolation({ collection, id, message, pointer }: SchemaViolation): void {
  console.error(`${collection}/${id} does not fit its schema: ${message} (at ${pointer})`);
}

/** Data that was to be written and does not fit the schema. */
export class SchemaViolationError extends Error {
  override name = 'SchemaViolationError';
  constructor(readonly violation: SchemaViolation) {
    super(
      `${violation.collection}/${violation.id} does not fit: ${violation.message} (at ${violation.pointer || 'the whole'}).`,
    );
  }
}

/** Checks the documents of one collection, each object once. */
export class SchemaCheck {
  readonly #known = new WeakMap<Document, SchemaViolation | null>();

  constructor(
    readonly collection: string,
    readonly schema: Schema<unknown>,
    readonly onViolation: OnViolation,
    readonly report: (violation: SchemaViolation) => void,
  ) {}

  /** The first thing wrong with a document; it is reported when the document is met. */
  violationOf(document: Document): SchemaViolation | undefined {
    let violation = this.#known.get(document);
    if (violation === undefined) {
      violation = this.find(document.id, document.data) ?? null;
      this.#known.set(document, violation);
      if (violation) this.report(violation);
    }
    return violation ?? undefined;
  }

  /** The first thing wrong with data. */
  find(id: string, data: unknown): SchemaViolation | undefined {
    const result = this.schema['~standard'].validate(data);
    if (result instanceof Promise) throw new TypeError('Asynchronous schemas are not supported.');
    const issue = (result as { issues?: readonly Issue[] }).issues?.[0];
    if (!issue) return undefined;
    const path = (issue.path ?? []).map((part) => String(typeof part === 'object' ? part.key : part));
    return { collection: this.collection, id, pointer: formatPointer(path), message: issue.message };
  }
}
