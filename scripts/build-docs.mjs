// Builds the pages at /docs/: those in docs/, and the reference of the client, made from its comments.
import { cpSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';
import { build } from 'esbuild';
import MarkdownIt from 'markdown-it';
import anchor from 'markdown-it-anchor';
import { root, run } from './ready.mjs';

const SOURCE = join(root, 'docs');
const TARGET = join(root, 'packages/cli/dist/docs');
/** The reference of the client, as Markdown. Its pages are at /docs/client/. */
const REFERENCE = join(root, 'packages/client/dist/reference');
/** Linked files that are not pages are copied here. */
const BESIDE = 'beside';

/** Pages with a script. */
const SCRIPTS = { 'sizing.md': 'calculator/page.ts' };

/** The same names for headings as in the places where the sources are read. */
const slugify = (text) =>
  text
    .trim()
    .toLowerCase()
    .replace(/[^\p{L}\p{N} _-]/gu, '')
    .replaceAll(' ', '-');

const markdown = new MarkdownIt({ html: false, linkify: true }).use(anchor, { slugify, tabIndex: false });

rmSync(TARGET, { recursive: true, force: true });
mkdirSync(TARGET, { recursive: true });
run('npx', ['--no-install', 'typedoc', '--logLevel', 'Warn', '--options', 'packages/client/typedoc.json']);
const pages = [
  ...readdirSync(SOURCE, { recursive: true }),
  ...readdirSync(REFERENCE).map((name) => `client/${name}`),
].filter((name) => name.endsWith('.md'));
const sections = readSections();
for (const page of pages) writePage(page);
for (const [page, script] of Object.entries(SCRIPTS)) {
  await build({
    entryPoints: [join(SOURCE, script)],
    outfile: join(TARGET, scriptOf(page)),
    bundle: true,
    format: 'esm',
    logLevel: 'error',
  });
}
writeFileSync(join(TARGET, 'docs.css'), readFileSync(join(root, 'scripts/docs.css')));
console.log(`${pages.length} pages of documentation`);

/** The pages and their order, by the lists of the first one. */
function readSections() {
  return readFileSync(join(SOURCE, 'index.md'), 'utf8')
    .split(/^## /m)
    .slice(1)
    .map((text) => ({
      title: text.slice(0, text.indexOf('\n')),
      pages: [...text.matchAll(/^- \[([^\]]+)\]\(([^)]+)\)/gm)].map(([, title, path]) => ({ title, path })),
    }));
}

function sourceOf(page) {
  return page.startsWith('client/') ? join(REFERENCE, page.slice('client/'.length)) : join(SOURCE, page);
}

function writePage(page) {
  const text = readFileSync(sourceOf(page), 'utf8');
  const tokens = markdown.parse(text, {});
  for (const token of tokens.flatMap(({ children }) => children ?? [])) {
    for (const name of ['href', 'src']) {
      const address = token.attrGet?.(name);
      if (address) token.attrSet(name, place(address, page));
    }
  }
  const title = /^# (.+)$/m.exec(text)?.[1] ?? 'Uproar';
  const headings = tokens.flatMap((token, at) =>
    token.type === 'heading_open' && token.tag === 'h2'
      ? [{ id: token.attrGet('id'), title: tokens[at + 1].content.replaceAll('`', '') }]
      : [],
  );
  const body = markdown.renderer.render(tokens, markdown.options, {});
  const file = join(TARGET, nameOf(page));
  mkdirSync(dirname(file), { recursive: true });
  writeFileSync(
    file,
    frame({
      page,
      title,
      headings,
      body: body.replaceAll('<table>', '<div class="table"><table>').replaceAll('</table>', '</table></div>'),
    }),
  );
}

/** The name of the page made of a source. */
function nameOf(page) {
  return page.replace(/README\.md$/, 'index.html').replace(/\.md$/, '.html');
}

/** The name of the script of a page. */
function scriptOf(page) {
  return page.replace(/\.md$/, '.js');
}

/** Where a link leads from a page. What lies outside the documentation is copied beside it. */
function place(address, page) {
  const [path, fragment] = address.split('#');
  if (path === '' || /^[a-z]+:/.test(path) || path.startsWith('/')) return address;
  const file = resolve(SOURCE, dirname(page), path);
  const hash = fragment === undefined ? '' : `#${fragment}`;
  const inside = relative(SOURCE, file);
  if (!inside.startsWith('..') && inside.endsWith('.md')) return relative(dirname(page) || '.', nameOf(inside)) + hash;
  if (!inside.startsWith('..') && path.endsWith('/')) return address;
  const copy = inside.startsWith('..')
    ? join(BESIDE, `${relative(root, file)}${file.endsWith('.md') ? '.txt' : ''}`)
    : inside;
  mkdirSync(dirname(join(TARGET, copy)), { recursive: true });
  cpSync(file, join(TARGET, copy));
  return relative(dirname(page) || '.', copy) + hash;
}

function frame({ page, title, headings, body }) {
  const up = relative(dirname(page), '.') || '.';
  const list = sections
    .map(({ title: section, pages: inside }) => {
      const links = inside.map(({ title: name, path }) => {
        const isHere = path === page;
        const inner =
          isHere && headings.length > 1
            ? `<ul>${headings.map(({ id, title: heading }) => `<li><a href="#${id}">${escape(heading)}</a></li>`).join('')}</ul>`
            : '';
        return `<li><a href="${up}/${nameOf(path)}"${isHere ? ' aria-current="page"' : ''}>${escape(name)}</a>${inner}</li>`;
      });
      return `<p>${escape(section)}</p><ul>${links.join('')}</ul>`;
    })
    .join('\n');
  return `<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>${escape(title)}${title === 'Uproar' ? '' : ' – Uproar'}</title>
<link rel="stylesheet" href="${up}/docs.css">
<link rel="icon" href="/console/favicon.svg">${Object.hasOwn(SCRIPTS, page) ? `\n<script type="module" src="${up}/${scriptOf(page)}"></script>` : ''}
</head>
<body>
<nav aria-label="Pages"><a class="home" href="${up}/index.html">uproar</a><a class="console" href="/console/">console</a>
<details open><summary>Pages</summary>
${list}
</details></nav>
<main>
${body}</main>
</body>
</html>
`;
}

function escape(text) {
  return markdown.utils.escapeHtml(text);
}
