import { findDataFault, isObject, JsonTextError, parseJson } from '@uproar/core';
import type { JsonObject } from '@uproar/client';

/** Parses the text of an editor as the data of a document, or returns the error. */
export function readData(text: string): { data: JsonObject } | { fault: string } {
  try {
    const value = parseJson(text);
    const fault = findDataFault(value);
    if (fault) return { fault: fault.pointer ? `${fault.pointer}: ${fault.detail}` : fault.detail };
    if (isObject(value)) return { data: value };
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    const line = text.slice(0, error.position).split('\n').length;
    return { fault: `Line ${line}: ${error.message}` };
  }
  return { fault: "A document's data must be a JSON object." };
}
