/** Reads at the same time. */
const AT_ONCE = 16;

/** Reads something for each item, a few at the same time, and returns what was read in the order of the items. */
export async function readEach<Item, Read>(
  items: readonly Item[],
  read: (item: Item) => Promise<Read>,
): Promise<Read[]> {
  const found: Read[] = [];
  for (let at = 0; at < items.length; at += AT_ONCE) {
    found.push(...(await Promise.all(items.slice(at, at + AT_ONCE).map(read))));
  }
  return found;
}
