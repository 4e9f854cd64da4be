/** A number of things: `1 document`, `1,200 documents`. */
export function countOf(count: number, word: string): string {
  return `${count.toLocaleString('en-US')} ${word}${count === 1 ? '' : 's'}`;
}
