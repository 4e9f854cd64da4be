import { reactive, watch } from 'vue';
import { dropDraft, keepDraft, readDraft } from './drafts';

/** A form whose inputs are kept while its page is left or reloaded. */
export interface FormDraft<Form> {
  /** The inputs, for `v-model`. */
  form: Form;
  /** Empties the form, after it was sent. */
  clear(): void;
}

/**
 * Keeps the inputs of a form as a draft for as long as they differ from those of an empty form.
 *
 * @param key what the draft is called
 * @param empty the inputs of an empty form
 */
export function useFormDraft<Form extends object>(key: string, empty: Form): FormDraft<Form> {
  const form = reactive({ ...empty, ...readDraft<Form>(key) });
  const blank = JSON.stringify(empty);
  watch(
    () => JSON.stringify(form),
    (text) => {
      if (text === blank) dropDraft(key);
      else keepDraft({ key, value: JSON.parse(text) });
    },
    { flush: 'sync' },
  );
  return { form: form as Form, clear: () => Object.assign(form, empty) };
}
