import type { TypedDocument as Document, View } from '@uproar/client';
import logUpdate from 'log-update';
import pc from 'picocolors';
import { describeFields } from './describe-change.js';
import { cutLine, formatDocuments, formatTable, formatValue, type TableOptions } from './output.js';
import { NumberCourses } from './sparkline.js';

/** A changed cell is highlighted for this time, in milliseconds. */
const MARKED_MS = 1500;

/** The screen is drawn again at most this often. */
const DRAW_MS = 100;

/** Lines that are no rows: the state, the headings, what happened last, and the keys. */
const OTHER_LINES = 8;
const NEWS = 2;

/** Keys as a terminal sends them: an escape sequence (ECMA-48, section 5.4), or a character. */
// eslint-disable-next-line no-control-regex
const KEYS = /\u001b\[[\d;]*[A-Za-z~]|[^]/g;

const STATES = {
  loading: pc.dim('loading'),
  live: pc.green('● live'),
  stale: pc.yellow('● not connected; this is the last known state'),
  failed: pc.red('● ended'),
};

/** A view as a table in the terminal that updates in place. */
export class LiveTable {
  readonly #name: string;
  readonly #kind: 'document' | 'documents' | 'groups';
  readonly #orderedBy: string | undefined;
  readonly #marks = new Map<string, number>();
  readonly #courses = new NumberCourses();
  readonly #timer: NodeJS.Timeout;
  #view: View | undefined;
  #held: View | undefined;
  #top = 0;
  #news: string[] = [];
  #changes = 0;
  #drawn = '';

  /**
   * @param name the name of the target
   * @param kind for one document the fields are shown below each other; groups are those of a summary
   * @param onQuit called when q or Ctrl-C is pressed
   * @param orderedBy the first field of the order; if it is a number that changes, its course is drawn
   */
  constructor(name: string, kind: 'document' | 'documents' | 'groups', onQuit: () => void, orderedBy?: string) {
    this.#name = name;
    this.#orderedBy = orderedBy;
    this.#kind = kind;
    if (process.stdin.isTTY) {
      process.stdin.setRawMode(true).resume();
      process.stdin.on('data', (text) => {
        for (const key of String(text).match(KEYS) ?? []) this.#press(key, onQuit);
      });
    }
    this.#timer = setInterval(() => this.#draw(), DRAW_MS);
  }

  /** Shows a later view. */
  show(view: View): void {
    const before = this.#view;
    if (before && before.state !== 'loading') {
      for (const { id } of view.changes) this.#note(before.byId.get(id), view.byId.get(id), id);
    } else for (const { id, data } of view.documents) this.#courses.note(id, data);
    this.#view = view;
  }

  /** Draws what there is a last time and leaves it on the screen. */
  close(): void {
    clearInterval(this.#timer);
    this.#draw();
    logUpdate.done();
    if (process.stdin.isTTY) process.stdin.setRawMode(false).pause();
  }

  #note(before: Document | undefined, after: Document | undefined, id: string): void {
    this.#changes++;
    if (after) this.#courses.note(id, after.data);
    else if (before) this.#courses.forget(id, before.data);
    const now = Date.now();
    if (before && after) {
      for (const part of ['data', 'related'] as const) {
        const [was = {}, is = {}] = [before[part], after[part]];
        for (const name of new Set([...Object.keys(was), ...Object.keys(is)])) {
          if (JSON.stringify(was[name]) !== JSON.stringify(is[name])) this.#marks.set(`${id} ${name}`, now);
        }
      }
    } else if (after) this.#marks.set(`${id} `, now);
    const mark = !before ? pc.green('+') : after ? pc.yellow('~') : pc.red('-');
    const what = after ? describeFields(before, after) : 'deleted';
    const name = this.#kind === 'groups' ? '' : `${pc.bold(id)}  `;
    this.#news = [...this.#news, `${mark} ${name}${what}`].slice(-NEWS);
  }

  #press(key: string, onQuit: () => void): void {
    const page = Math.max(1, this.#rows() - 1);
    if (key === 'q' || key === '\u0003') return onQuit();
    if (key === ' ') this.#held = this.#held ? undefined : this.#view;
    else if (key === '\u001b[B' || key === 'j') this.#top++;
    else if (key === '\u001b[A' || key === 'k') this.#top--;
    else if (key === '\u001b[6~') this.#top += page;
    else if (key === '\u001b[5~') this.#top -= page;
    this.#draw();
  }

  get #single(): boolean {
    return this.#kind === 'document';
  }

  #rows(): number {
    return Math.max(3, (process.stdout.rows || 24) - OTHER_LINES - 1);
  }

  #draw(): void {
    const view = this.#held ?? this.#view;
    if (!view) return;
    const width = (process.stdout.columns || 80) - 1;
    const now = Date.now();
    for (const [key, timeMs] of this.#marks) if (now - timeMs > MARKED_MS) this.#marks.delete(key);
    const lines = [this.#heading(view), '', ...this.#body(view, width), '', ...this.#news.map(cutLine), this.#keys()];
    const text = lines.map(cutLine).join('\n');
    if (text !== this.#drawn) logUpdate(text);
    this.#drawn = text;
  }

  #heading({ state, documents, seq, more }: View): string {
    const noun = this.#kind === 'groups' ? 'group' : 'document';
    const count = `${documents.length.toLocaleString('en')} ${noun}${documents.length === 1 ? '' : 's'}${more ? ' and more' : ''}`;
    const facts = `${this.#single ? '' : `${count}, `}seq ${seq}, ${this.#changes} changes seen`;
    return `${pc.bold(this.#name)}  ${this.#held ? pc.yellow('❚❚ paused') : STATES[state]}  ${pc.dim(facts)}`;
  }

  #body(view: View, width: number): string[] {
    const rows = this.#rows();
    if (this.#single) return this.#fields(view.documents[0], width).slice(0, rows + 1);
    if (view.documents.length === 0)
      return [pc.dim(view.state === 'loading' ? '' : 'no documents yet; new ones appear here')];
    this.#top = Math.max(0, Math.min(this.#top, view.documents.length - rows));
    const shown = view.documents.slice(this.#top, this.#top + rows);
    const { lines, left } = formatDocuments(shown, {
      width,
      ids: this.#kind === 'documents',
      ...this.#course(),
      accent: (document, field, cell) =>
        this.#marks.has(`${document.id} ${field}`) ? mark(cell) : field === '' ? pc.bold(cell) : cell,
    });
    const rest = view.documents.length - shown.length;
    const notes = [rest > 0 && `${rest.toLocaleString('en')} more rows`, left > 0 && `${left} more fields`].filter(
      Boolean,
    );
    return notes.length > 0 ? [...lines, pc.dim(`… ${notes.join(', ')}`)] : lines;
  }

  /** The column with the course of the number that changes most. */
  #course(): Pick<TableOptions, 'extra'> {
    const field = this.#courses.liveliest(this.#orderedBy);
    if (field === undefined) return {};
    return {
      extra: { after: field, heading: `${field} ~`, cell: ({ id }) => pc.cyan(this.#courses.lineOf(id, field)) },
    };
  }

  #fields(document: Document | undefined, width: number): string[] {
    if (!document) return [pc.dim('No such document yet. It appears here when it is created.')];
    const { id, version, updated, data } = document;
    const rows = Object.entries(data).map(([name, value]) => {
      const cell = formatValue(value, width);
      const course = this.#courses.lineOf(id, name);
      const shown = this.#marks.has(`${id} ${name}`) ? mark(cell) : cell;
      return [pc.cyan(name), course === '' ? shown : `${shown}  ${pc.cyan(course)}`];
    });
    const bookkeeping = version === undefined ? [] : [[pc.dim('version'), `${version}, ${updated}`]];
    return formatTable(['field', 'value'], [...rows, ...bookkeeping], width);
  }

  #keys(): string {
    return pc.dim(`q quits · space ${this.#held ? 'resumes' : 'pauses'}${this.#single ? '' : ' · ↑ ↓ scroll'}`);
  }
}

function mark(cell: string): string {
  return pc.isColorSupported ? pc.black(pc.bgYellow(cell)) : `*${cell}`;
}
