import { partsOf, type BenchQuery } from './bench-query';

/** The same query for use elsewhere: as an address, for the terminal, and as code. */
export function copiesOf(query: BenchQuery, origin: string): { name: string; text: string }[] {
  const parts = partsOf(query);
  const parameters = Object.entries(parts).map(([name, value]) => `${name}=${encodeURIComponent(value)}`);
  const address = `${origin}/v1/data/${query.from}${parameters.length > 0 ? `?${parameters.join('&')}` : ''}`;
  const options = Object.entries(parts).map(([name, value]) => ` --${name} ${shell(value)}`);
  const curl = `curl -H "Authorization: Bearer $UPROAR_KEY"`;
  return [
    { name: 'Address', text: address },
    { name: 'curl, once', text: `${curl} ${shell(address)}` },
    { name: 'curl, live', text: `${curl} -N -H 'Accept: text/event-stream' ${shell(address)}` },
    { name: 'Command line, once', text: `uproar query ${query.from}${options.join('')}` },
    { name: 'Command line, live', text: `uproar watch ${query.from}${options.join('')}` },
    { name: 'Client code', text: clientCode(query, parts, origin) },
  ];
}

function clientCode({ from }: BenchQuery, parts: Record<string, string>, origin: string): string {
  const lines = Object.entries(parts).map(([name, value]) => {
    const number = name === 'limit' && /^\d+$/.test(value);
    return `  ${name}: ${number ? value : JSON.stringify(value)},`;
  });
  const query = lines.length > 0 ? `{\n${lines.join('\n')}\n}` : '';
  return [
    `import { connect } from '@uproar/client';`,
    '',
    `const store = connect('${origin}', { token });`,
    `const watch = store.collection('${from}').watch(${query});`,
    'watch.subscribe(({ state, documents }) => console.log(state, documents));',
  ].join('\n');
}

/** A text as one word of a shell. */
function shell(text: string): string {
  return /^[\w./:@%+=-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`;
}
