import { QueryError } from './tree.js';

/** A field's path as one name: parts with other characters stand in double quotes. */
export function joinName(path: readonly string[]): string {
  return path
    .map((part) => (/^[\p{L}_][\p{L}\p{Nd}_]*$/u.test(part) ? part : `"${part.replaceAll('"', '""')}"`))
    .join('.');
}

/** The path that a name such as `pilot.name` or `"a.b".c` stands for. */
export function splitName(name: string): string[] {
  const path: string[] = [];
  const part = /"((?:[^"]|"")*)"|[^."]+/y;
  for (let at = 0; at < name.length;) {
    part.lastIndex = at;
    const found = part.exec(name);
    if (!found) throw new QueryError(`"${name}" is not a field name.`, at);
    path.push(found[1] === undefined ? found[0] : found[1].replaceAll('""', '"'));
    at = part.lastIndex;
    if (at < name.length && name[at] !== '.') throw new QueryError(`"${name}" is not a field name.`, at);
    if (at === name.length - 1) throw new QueryError(`The name "${name}" ends with a dot.`, at);
    at++;
  }
  if (path.length === 0) throw new QueryError('The name of a field is empty.', 0);
  return path;
}
