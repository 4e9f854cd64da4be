import type { JsonValue } from '@uproar/client';
import type { InjectionKey } from 'vue';

/** Text in the form of a document that is not, or not yet, part of its data. The keys are JSON Pointers (RFC 6901). */
export interface FormInputs {
  /** The text of a number or a list during editing, and its fault. */
  typed: Record<string, { text: string; fault: string; label: string }>;
  /** The name of a field that is about to be added to an object. */
  added: Record<string, string>;
  /** The values that a field had before its type was changed, by type. */
  former: Record<string, Record<string, JsonValue>>;
}

export const FormInputsKey: InjectionKey<FormInputs> = Symbol('form inputs');
