import { formatPointer, type JsonObject } from '@uproar/core';
import { problemError, type Violation } from '@uproar/protocol';
import { Ajv2020, type ErrorObject, type ValidateFunction } from 'ajv/dist/2020.js';
import addFormats from 'ajv-formats';

/** Finds the schema violations of a document; empty if there are none. */
export type SchemaValidator = (data: JsonObject, sizeBytes?: number) => Violation[];

const MAX_CHARACTERS = 256 * 1024;
const MAX_VIOLATIONS = 20;

/** Of data that is larger, only the first violation is looked for: hostile data could have one for every few bytes. */
const MAX_BYTES_FOR_ALL = 64 * 1024;

/**
 * Makes a JSON Schema (2020-12) ready.
 *
 * @throws {ProblemError} `bad-schema` with the place of the fault
 */
export function compileSchema(schema: JsonObject): SchemaValidator {
  if (JSON.stringify(schema).length > MAX_CHARACTERS) {
    throw problemError('bad-schema', `A schema has at most ${MAX_CHARACTERS} characters.`);
  }
  const [first, all] = [compile(schema, false), compile(schema, true)];
  return (data, sizeBytes = 0) => {
    if (first(data)) return [];
    if (sizeBytes > MAX_BYTES_FOR_ALL) return describe(first.errors);
    all(data);
    return describe(all.errors);
  };
}

function compile(schema: JsonObject, allErrors: boolean): ValidateFunction {
  const ajv = new Ajv2020({
    allErrors,
    logger: false,
    strict: true,
    strictTypes: false,
    strictTuples: false,
    strictRequired: false,
    allowUnionTypes: true,
  });
  (addFormats as unknown as (ajv: Ajv2020) => void)(ajv);
  if (!ajv.validateSchema(schema)) {
    const [fault] = ajv.errors!;
    throw problemError('bad-schema', `${fault!.instancePath || '/'}: ${fault!.message}.`, {
      pointer: fault!.instancePath,
    });
  }
  try {
    return ajv.compile(schema);
  } catch (error) {
    throw problemError('bad-schema', `The schema cannot be used: ${(error as Error).message}.`);
  }
}

function describe(errors: ErrorObject[] | null | undefined): Violation[] {
  // Errors inside an alternative are reported by the alternative, too; the place is what matters.
  return (errors ?? []).slice(0, MAX_VIOLATIONS).map(({ instancePath, keyword, message, params }) => {
    const { missingProperty, additionalProperty, allowedValues } = params as {
      missingProperty?: string;
      additionalProperty?: string;
      allowedValues?: unknown[];
    };
    const inside = missingProperty ?? additionalProperty;
    const values = allowedValues
      ? `: ${allowedValues
          .slice(0, 12)
          .map((value) => JSON.stringify(value))
          .join(', ')}`
      : '';
    return {
      pointer: instancePath + (inside === undefined ? '' : formatPointer([inside])),
      detail: missingProperty
        ? 'is missing'
        : additionalProperty
          ? 'is not in the schema'
          : `${message ?? keyword}${values}`,
      rule: keyword,
    };
  });
}
