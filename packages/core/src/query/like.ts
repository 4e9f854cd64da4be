import type { WorkMeter } from './work.js';

/**
 * Makes a test for a LIKE pattern: `%` stands for any characters, `_` for one, and a backslash takes the next character
 * as it is. The time it takes grows with text times pattern at worst; there is nothing to backtrack over but the last
 * `%`.
 */
export function compileLike(pattern: string): (text: string, work?: WorkMeter) => boolean {
  const wanted: string[] = [];
  const kinds: ('any' | 'one' | 'character')[] = [];
  const characters = [...pattern];
  for (let at = 0; at < characters.length; at++) {
    let character = characters[at]!;
    if (character === '%') {
      if (kinds.at(-1) !== 'any') add('any', '');
      continue;
    }
    if (character === '_') {
      add('one', '');
      continue;
    }
    if (character === '\\' && at + 1 < characters.length) character = characters[++at]!;
    add('character', character);
  }
  function add(kind: 'any' | 'one' | 'character', character: string): void {
    kinds.push(kind);
    wanted.push(character);
  }
  return (text, work) => matches(text, kinds, wanted, work);
}

/** The number of steps between two counts. */
const COUNT_EVERY = 4096;

function matches(
  text: string,
  kinds: readonly string[],
  wanted: readonly string[],
  work: WorkMeter | undefined,
): boolean {
  let at = 0;
  let place = 0;
  let lastAny = -1;
  let lastAnyAt = 0;
  let steps = 0;
  while (at < text.length) {
    if (++steps === COUNT_EVERY) {
      work?.add(2 * steps);
      steps = 0;
    }
    const width = text.codePointAt(at)! > 0xffff ? 2 : 1;
    if (place < kinds.length && kinds[place] === 'any') {
      lastAny = place++;
      lastAnyAt = at;
    } else if (place < kinds.length && (kinds[place] === 'one' || text.startsWith(wanted[place]!, at))) {
      place++;
      at += width;
    } else if (lastAny !== -1) {
      place = lastAny + 1;
      lastAnyAt += text.codePointAt(lastAnyAt)! > 0xffff ? 2 : 1;
      at = lastAnyAt;
    } else {
      work?.add(2 * steps);
      return false;
    }
  }
  work?.add(2 * steps + 1);
  while (kinds[place] === 'any') place++;
  return place === kinds.length;
}
