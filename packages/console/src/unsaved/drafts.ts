import { computed, shallowReactive } from 'vue';

/**
 * Something a person typed that the store does not have yet. Drafts live outside the components that show them, so that no
 * update, navigation or reload of the page can discard one: only the person can, by saving or by discarding it.
 */
export interface Draft<Value = unknown> {
  /** What the draft is about, such as `document:balloons/bl-17`. */
  key: string;
  value: Value;
  /** Set for an edit that is to be saved. Without it, the draft is an input that only its own page shows again. */
  edit?: {
    /** The name of the edit in the navigation. */
    label: string;
    /** The address in the console at which it is shown. */
    path: string;
    /** Whether its editor is open, so that the navigation does not list it. */
    open?: boolean;
  };
  /** When it was begun, in milliseconds since 1970. */
  begun?: number;
}

/** Where the drafts of this browser tab are kept. The number counts formats: another one is ignored. */
const PREFIX = 'uproar-draft-1:';

/** Most characters of one draft that are kept over a reload; longer ones are kept until then. */
const MAX_KEPT_CHARACTERS = 1_000_000;

/** How soon a draft is written to the browser's storage, in milliseconds. */
const WRITTEN_WITHIN_MS = 200;

const drafts = shallowReactive(readKept());
/** The drafts that a reload would lose, because the browser's storage for this tab is full. */
const unkept = shallowReactive(new Set<string>());

/** The drafts that are edits to be saved, in the order in which they were begun. */
export const unsavedEdits = computed(() => [...drafts.values()].filter(({ edit }) => edit));

/** Whether a draft would be lost if the page were reloaded. */
export function isLostOnReload(key: string): boolean {
  return unkept.has(key);
}

/** The value of a draft; undefined if there is none. */
export function readDraft<Value>(key: string): Value | undefined {
  return drafts.get(key)?.value as Value | undefined;
}

/** Keeps a draft in this browser tab, over reloads. The value is kept as JSON. */
export function keepDraft(draft: Draft): void {
  drafts.set(draft.key, { ...draft, begun: drafts.get(draft.key)?.begun ?? Date.now() });
  unwritten.add(draft.key);
  writing ??= setTimeout(writeKept, WRITTEN_WITHIN_MS);
}

/** Forgets a draft, because it was saved or discarded. */
export function dropDraft(key: string): void {
  if (!drafts.delete(key)) return;
  unwritten.delete(key);
  unkept.delete(key);
  sessionStorage.removeItem(PREFIX + key);
}

/** The drafts that changed since they were written to the browser's storage, and the timer that will do it. */
const unwritten = new Set<string>();
let writing: ReturnType<typeof setTimeout> | undefined;

function writeKept(): void {
  clearTimeout(writing);
  writing = undefined;
  for (const key of unwritten) {
    try {
      const text = JSON.stringify(drafts.get(key));
      if (text.length > MAX_KEPT_CHARACTERS) throw new Error('This draft is too long to be kept.');
      sessionStorage.setItem(PREFIX + key, text);
      unkept.delete(key);
    } catch {
      sessionStorage.removeItem(PREFIX + key);
      unkept.add(key);
    }
  }
  unwritten.clear();
}

/** Forgets all drafts. */
export function dropAllDrafts(): void {
  for (const key of [...drafts.keys()]) dropDraft(key);
}

function readKept(): Map<string, Draft> {
  const found: Draft[] = [];
  for (const item of Object.keys(sessionStorage).filter((name) => name.startsWith(PREFIX))) {
    try {
      found.push(JSON.parse(sessionStorage.getItem(item)!) as Draft);
    } catch {
      sessionStorage.removeItem(item);
    }
  }
  found.sort((a, b) => (a.begun ?? 0) - (b.begun ?? 0));
  return new Map(found.map((draft) => [draft.key, draft]));
}

// The browser asks before it closes or reloads a tab with edits in it. A closed tab has no storage any more.
addEventListener('pagehide', writeKept);
addEventListener('beforeunload', (event) => {
  writeKept();
  if (unsavedEdits.value.length > 0) event.preventDefault();
});
