// Wraps the text of Markdown files at 100 columns: `node scripts/wrap-markdown.mjs`; `--check` only lists files that are not wrapped.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { root } from './ready.mjs';

const COLUMNS = 100;

const checkOnly = process.argv.includes('--check');
const files = findFiles('');
const unwrapped = files.filter((file) => {
  const path = join(root, file);
  const text = readFileSync(path, 'utf8');
  const wrapped = wrap(text);
  if (wrapped === text) return false;
  if (!checkOnly) writeFileSync(path, wrapped);
  return true;
});
for (const file of unwrapped) console.log(`${checkOnly ? 'not wrapped' : 'wrapped'}: ${file}`);
if (checkOnly && unwrapped.length > 0) {
  console.log('npm run format wraps them.');
  process.exit(1);
}

/** The Markdown files of a folder and the folders in it. */
function findFiles(folder) {
  return readdirSync(join(root, folder), { withFileTypes: true }).flatMap((entry) => {
    const path = folder === '' ? entry.name : `${folder}/${entry.name}`;
    if (entry.isDirectory())
      return /^(node_modules|dist|packed|coverage|\..*)$/.test(entry.name) ? [] : findFiles(path);
    return entry.name.endsWith('.md') ? [path] : [];
  });
}

/** A Markdown text with its paragraphs and list items wrapped; code, tables, headings, pictures and HTML stay as they are. */
function wrap(text) {
  const result = [];
  /** The paragraph that is being read: what its first line begins with, how the others are indented, and its words. */
  let paragraph;
  let fence;
  const end = () => {
    if (paragraph) result.push(...fill(paragraph));
    paragraph = undefined;
  };
  for (const line of text.split('\n')) {
    const opening = /^\s*(```+|~~~+)/.exec(line)?.[1];
    if (fence !== undefined || opening !== undefined) {
      end();
      result.push(line);
      if (fence === undefined) fence = opening;
      else if (opening?.startsWith(fence)) fence = undefined;
      continue;
    }
    const item = /^(\s*)([-*+]|\d+[.)])(\s+)(?=\S)/.exec(line);
    if (line.trim() === '' || /^\s*(#|\||<|!\[|>|---)/.test(line)) {
      end();
      result.push(line);
    } else if (item) {
      end();
      paragraph = { first: item[0], indent: ' '.repeat(item[0].length), words: wordsOf(line.slice(item[0].length)) };
    } else if (paragraph) paragraph.words.push(...wordsOf(line));
    else {
      const [indent] = /^\s*/.exec(line);
      paragraph = { first: indent, indent, words: wordsOf(line) };
    }
  }
  end();
  return result.join('\n');
}

/** The words of a line. Code with spaces in it is one word. */
function wordsOf(line) {
  return line.trim().match(/(?:`[^`]*`|[^\s`]|`)+/g) ?? [];
}

function fill({ first, indent, words }) {
  const lines = [];
  let line = first;
  for (const [index, word] of words.entries()) {
    const begins = index === 0;
    // A line that begins like this would be a heading, a list, a quote or a table.
    const glued = /^([-+*>|]|#+|\d+[.)])$/.test(word);
    if (begins) line += word;
    else if (glued || line.length + 1 + word.length <= COLUMNS) line += ` ${word}`;
    else {
      lines.push(line);
      line = indent + word;
    }
  }
  return [...lines, line];
}
