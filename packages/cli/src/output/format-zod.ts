/** A text in double quotes, with escapes. */
const TEXT = /"(?:[^"\\]|\\.)*"/y;
const PLAIN_KEY = /^"([A-Za-z_$][\w$]*)"$/;

/** Lays the text of a Zod schema out for people: each field of an object on a line of its own, with quotes only where it needs them. */
export function formatZod(code: string): string {
  // Functions are left as they are; what may stand in them is not known.
  if (code.includes('=>')) return code;
  let laidOut = '';
  let depth = 0;
  /** For each open bracket, whether it is that of the fields of an object. */
  const objects: boolean[] = [];
  const startLine = () => (laidOut = `${laidOut.trimEnd()}\n${'  '.repeat(depth)}`);
  for (let at = 0; at < code.length; at++) {
    const character = code[at]!;
    TEXT.lastIndex = at;
    const text = TEXT.exec(code)?.[0];
    if (text !== undefined) {
      const isKey = objects.at(-1) === true && code[at + text.length] === ':';
      laidOut += isKey ? text.replace(PLAIN_KEY, '$1') : text;
      at += text.length - 1;
    } else if ('{[('.includes(character)) {
      const isObject = laidOut.endsWith('object(') && !/^\{\s*\}/.test(code.slice(at, at + 10));
      objects.push(isObject);
      laidOut += character;
      if (!isObject) continue;
      depth++;
      startLine();
    } else if ('}])'.includes(character)) {
      if (objects.pop() === true) {
        depth--;
        laidOut = `${laidOut.trimEnd()},`;
        startLine();
      }
      laidOut += character;
    } else if (character === ',' && objects.at(-1) === true) {
      laidOut += character;
      startLine();
    } else if (character === ',') {
      laidOut += code[at + 1] === ' ' ? ',' : ', ';
    } else if (character !== ' ' || !/\s$/.test(laidOut)) laidOut += character;
  }
  return laidOut;
}
