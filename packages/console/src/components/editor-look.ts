import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';

/** The colours of words in every editor. */
export const highlighting = syntaxHighlighting(
  HighlightStyle.define([
    { tag: tags.propertyName, color: 'var(--ink)', fontWeight: '600' },
    { tag: tags.string, color: 'var(--string)' },
    { tag: tags.number, color: 'var(--number)' },
    { tag: tags.bool, color: 'var(--boolean)' },
    { tag: tags.null, color: 'var(--ink-3)' },
    { tag: tags.comment, color: 'var(--ink-3)' },
    { tag: tags.keyword, color: 'var(--accent)', fontWeight: '600' },
    { tag: tags.typeName, color: 'var(--boolean)' },
    { tag: tags.operator, color: 'var(--ink-2)' },
  ]),
);

/** How every editor looks. */
export const look = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'var(--paper)', color: 'var(--ink)', borderRadius: '5px' },
  '.cm-scroller': { fontFamily: 'var(--mono)', fontSize: '12.5px', lineHeight: '1.55' },
  '.cm-gutters': { backgroundColor: 'var(--paper-2)', color: 'var(--ink-3)', border: 'none' },
  '&.cm-focused': { outline: 'none' },
  '.cm-content': { caretColor: 'var(--ink)' },
  '.cm-placeholder': { color: 'var(--ink-3)', fontStyle: 'italic' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--accent-soft) !important' },
  '.cm-tooltip': {
    zIndex: '20',
    backgroundColor: 'var(--paper)',
    color: 'var(--ink)',
    border: '1px solid var(--line)',
    borderRadius: '5px',
    boxShadow: '0 4px 16px rgb(0 0 0 / 14%)',
  },
  '.cm-tooltip.cm-tooltip-autocomplete > ul': { fontFamily: 'var(--mono)', fontSize: '12px', maxHeight: '15em' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li': { padding: '2px 10px' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--accent-soft)', color: 'var(--ink)' },
  '.cm-completionDetail': { color: 'var(--ink-3)', marginLeft: '12px' },
  '.cm-diagnostic': { padding: '6px 10px', borderLeft: '3px solid var(--bad)' },
});
