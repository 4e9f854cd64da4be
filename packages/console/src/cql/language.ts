import {
  autocompletion,
  closeCompletion,
  completionKeymap,
  selectedCompletion,
  type Completion,
  type CompletionContext,
} from '@codemirror/autocomplete';
import { StreamLanguage } from '@codemirror/language';
import { linter, type Diagnostic } from '@codemirror/lint';
import { Prec, type Extension } from '@codemirror/state';
import { keymap } from '@codemirror/view';
import { OPERATORS, parseText, QueryError } from '@uproar/core';
import { formatCql2 } from './literals';

/** What there is to complete a condition with. */
export interface Vocabulary {
  /** Names of fields, each with the type of its values. */
  fields: { name: string; type: string }[];
  /** Values that a field has, the most common ones. */
  valuesOf(field: string): (string | number | boolean)[];
}

const KEYWORDS = ['AND', 'OR', 'NOT', 'LIKE', 'BETWEEN', 'IN', 'IS NULL', 'TRUE', 'FALSE'];
const WORDS = /^(and|or|not|like|between|in|is|null|true|false|div)$/i;
const SPELLED = new Set(['and', 'or', 'not', 'isnull', 'like', 'between', 'in', 'div']);
const FUNCTIONS = [...OPERATORS.values()].filter(
  ({ name }) => /^[a-z]/i.test(name) && !SPELLED.has(name.toLowerCase()),
);
const FUNCTION_NAMES = new Set(FUNCTIONS.map(({ name }) => name.toLowerCase()));

/** How the tokens of a condition are distinguished (CQL2, OGC 21-065r2, annex B). */
const language = StreamLanguage.define({
  token(stream) {
    if (stream.eatSpace()) return null;
    if (stream.match(/^'(?:[^']|'')*'?/)) return 'string';
    if (stream.match(/^"(?:[^"]|"")*"?/)) return 'propertyName';
    if (stream.match(/^(?:\d+(?:\.\d*)?|\.\d+)(?:e[+-]?\d+)?/i)) return 'number';
    const word = stream.match(/^[\p{L}_][\p{L}\p{Nd}_]*/u) as RegExpMatchArray | null;
    if (word) {
      if (WORDS.test(word[0])) return /^(true|false|null)$/i.test(word[0]) ? 'bool' : 'keyword';
      if (FUNCTION_NAMES.has(word[0].toLowerCase()) && /^\s*\(/.test(stream.string.slice(stream.pos))) {
        return 'typeName';
      }
      return 'propertyName';
    }
    stream.next();
    return 'operator';
  },
});

/** Marks errors during typing. */
const faults = linter(
  (view): Diagnostic[] => {
    const text = view.state.doc.toString();
    if (text.trim() === '') return [];
    try {
      parseText(text);
      return [];
    } catch (error) {
      if (!(error instanceof QueryError)) throw error;
      const from = Math.min(error.position ?? 0, Math.max(0, text.length - 1));
      const word = /^[\p{L}\p{Nd}_]+/u.exec(text.slice(from))?.[0].length ?? 1;
      return [{ from, to: Math.min(text.length, from + word), severity: 'error', message: error.message }];
    }
  },
  { delay: 500 },
);

/** Closes the list of completions if Enter would only insert the typed text again, so that Enter runs the query. */
const closeWhenTyped = Prec.highest(
  keymap.of([
    {
      key: 'Enter',
      run: (view) => {
        const selected = selectedCompletion(view.state);
        if (!selected || selected.apply !== undefined) return false;
        const { head } = view.state.selection.main;
        const typed = view.state.sliceDoc(Math.max(0, head - selected.label.length), head);
        if (typed === selected.label) closeCompletion(view);
        return false;
      },
    },
  ]),
);

/** The extensions of an editor for conditions: colours, marks of errors, and completions. */
export function conditions(vocabulary: () => Vocabulary): Extension[] {
  const complete = (context: CompletionContext) => {
    const before = context.state.sliceDoc(Math.max(0, context.pos - 300), context.pos);
    const typed = /('(?:[^']|'')*|[\p{L}_"][\p{L}\p{Nd}_."]*)?$/u.exec(before)![0];
    if (typed === '' && !context.explicit && !/(=|<>|IN\s*\(|,)\s*$/i.test(before)) return null;
    const compared = /([\p{L}_"][\p{L}\p{Nd}_."]*)\s*(?:=|<>|<=?|>=?|NOT\s+IN\s*\([^)]*|IN\s*\([^)]*|LIKE)\s*$/iu.exec(
      before.slice(0, before.length - typed.length),
    )?.[1];
    const { fields, valuesOf } = vocabulary();
    const values: Completion[] = (compared === undefined ? [] : valuesOf(compared)).map((value) => ({
      label: formatCql2(value),
      type: 'constant',
      boost: 50,
    }));
    const names: Completion[] = fields.map(({ name, type }) => ({
      label: name,
      type: 'property',
      detail: type,
      boost: 20,
    }));
    const rest: Completion[] = [
      ...KEYWORDS.map((label) => ({ label, type: 'keyword' })),
      ...FUNCTIONS.map(({ name }) => ({ label: name, type: 'function', apply: `${name}(` })),
    ];
    return {
      from: context.pos - typed.length,
      options: typed.startsWith("'") ? values : [...values, ...names, ...rest],
      validFor: /^('(?:[^']|'')*|[\p{L}\p{Nd}_."]*)$/u,
    };
  };
  return [
    language,
    faults,
    closeWhenTyped,
    autocompletion({ override: [complete], icons: false }),
    keymap.of(completionKeymap),
  ];
}
