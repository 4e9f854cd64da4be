import { createHash } from 'node:crypto';
import { readFileSync, statSync } from 'node:fs';
import { join, resolve, sep } from 'node:path';

/** Larger pages, and more pages than this, are not searched for inline scripts. */
const MAX_PAGE_BYTES = 1024 * 1024;
const MAX_PAGES = 500;

/** The scripts that stand in the pages of a folder, by their hashes (Content Security Policy, level 3, section 6.7.3). */
export class InlineScripts {
  readonly #prefix: string;
  readonly #directory: string;
  readonly #known = new Map<string, { changedMs: number; hashes: string[] }>();

  constructor(prefix: string, directory: string) {
    this.#prefix = prefix;
    this.#directory = resolve(directory);
  }

  /** The hashes of the scripts in the page at an address; none where there is no page. */
  hashesOf(url: string): string[] {
    const file = this.#fileOf(url);
    const stat = file === undefined ? undefined : statSync(file, { throwIfNoEntry: false });
    if (!file || !stat?.isFile() || stat.size > MAX_PAGE_BYTES) return [];
    const known = this.#known.get(file);
    if (known?.changedMs === stat.mtimeMs) return known.hashes;
    const hashes = hashScripts(readFileSync(file, 'utf8'));
    if (this.#known.size >= MAX_PAGES) this.#known.clear();
    this.#known.set(file, { changedMs: stat.mtimeMs, hashes });
    return hashes;
  }

  #fileOf(url: string): string | undefined {
    let path: string;
    try {
      path = decodeURIComponent(url.split(/[?#]/)[0]!);
    } catch {
      return undefined;
    }
    if (!path.startsWith(this.#prefix) || path.includes('\0')) return undefined;
    const name = path.slice(this.#prefix.length);
    const file = resolve(join(this.#directory, name === '' || name.endsWith('/') ? `${name}index.html` : name));
    return file.startsWith(this.#directory + sep) && file.endsWith('.html') ? file : undefined;
  }
}

function hashScripts(html: string): string[] {
  return [...html.matchAll(/<script\b([^>]*)>([\s\S]*?)<\/script\s*>/gi)]
    .filter(([, attributes]) => !/\bsrc\s*=/i.test(attributes!))
    .map(([, , script]) => `sha256-${createHash('sha256').update(script!.replaceAll('\r\n', '\n')).digest('base64')}`);
}
