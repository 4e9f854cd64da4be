// Writes packages/core/src/query/case-folding.ts: how Unicode's full case folding differs from small letters.
// Python carries the folding table of Unicode (statuses C and F of CaseFolding.txt), so it is asked for it.
import { spawnSync } from 'node:child_process';
import { writeFileSync } from 'node:fs';

const ASK = `
import json, sys, unicodedata
rows = []
for code in range(sys.maxunicode + 1):
    if 0xD800 <= code <= 0xDFFF: continue
    character = chr(code)
    lower = character.lower()
    if len(lower) == 1 and lower != character: continue
    if character.casefold() != lower: rows.append([character, character.casefold()])
print(json.dumps({"version": unicodedata.unidata_version, "rows": rows}))
`;
const { status, stdout, stderr } = spawnSync('python3', ['-c', ASK], { encoding: 'utf8' });
if (status !== 0) throw new Error(stderr);
const { version, rows } = JSON.parse(stdout);
const escape = (text) => [...text].map((character) => `\\u{${character.codePointAt(0).toString(16)}}`).join('');
const isCherokee = (character) => /[\u{ab70}-\u{abbf}]|[\u{13f8}-\u{13fd}]/u.test(character);
const lines = rows.filter(([from]) => !isCherokee(from)).map(([from, to]) => `  ['${escape(from)}', '${escape(to)}'],`);

writeFileSync(
  new URL('../packages/core/src/query/case-folding.ts', import.meta.url),
  `// Made by scripts/make-case-folding.mjs from the folding table of Unicode ${version}.
/** Small letters that full case folding (Unicode, CaseFolding.txt, statuses C and F) maps to something else. */
const FOLDED: ReadonlyMap<string, string> = new Map([
${lines.join('\n')}
]);

/** Cherokee folds to its capitals: by how much the code point changes, for the two ranges of small letters. */
const CHEROKEE = /[\\u{ab70}-\\u{abbf}]|[\\u{13f8}-\\u{13fd}]/gu;
const EXCEPTIONS = new RegExp([...FOLDED.keys()].join('|'), 'gu');

/** Folds case fully (Unicode, CaseFolding.txt). */
export function foldCaseFully(text: string): string {
  return text
    .toLowerCase()
    .replace(EXCEPTIONS, (character) => FOLDED.get(character)!)
    .replace(CHEROKEE, (character) => {
      const code = character.codePointAt(0)!;
      return String.fromCodePoint(code >= 0xab70 ? code - 0xab70 + 0x13a0 : code - 8);
    });
}
`,
);
