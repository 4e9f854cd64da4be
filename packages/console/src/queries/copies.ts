import { partsOf, type BenchQuery } from './bench-query.js';

/** A query or a document as a program for another platform. */
export interface Copy {
  /** The platform. */
  group: string;
  name: string;
  text: string;
}

/** The same query for use elsewhere: as an address, for the terminal, and as programs that run as they are. */
export function copiesOf(query: BenchQuery, origin: string): Copy[] {
  const parts = partsOf(query);
  const parameters = Object.entries(parts).map(([name, value]) => `${name}=${encodeURIComponent(value)}`);
  const path = `${query.from}${parameters.length > 0 ? `?${parameters.join('&')}` : ''}`;
  const options = Object.entries(parts).map(([name, value]) => ` --${name} ${shell(value)}`);
  return [
    ...copiesOfPath(path, origin),
    { group: 'Shell', name: 'uproar, once', text: `uproar query ${query.from}${options.join('')}` },
    { group: 'Shell', name: 'uproar, live', text: `uproar watch ${query.from}${options.join('')}` },
    ...copiesForClient(origin, query.from, watchOf(parts)),
    ...copiesOfPrograms(path, origin),
  ];
}

/** The same for one document. */
export function copiesOfDocument(collection: string, id: string, origin: string): Copy[] {
  const path = `${collection}/${id}`;
  return [
    ...copiesOfPath(path, origin),
    { group: 'Shell', name: 'uproar, once', text: `uproar get ${path}` },
    { group: 'Shell', name: 'uproar, live', text: `uproar watch ${path}` },
    {
      group: 'Shell',
      name: 'uproar, change a field',
      text: `uproar merge ${path} '{"field": "value"}'`,
    },
    ...copiesForClient(origin, collection, `watchOne(${JSON.stringify(id)})`),
    ...copiesOfPrograms(path, origin),
  ];
}

function copiesOfPath(path: string, origin: string): Copy[] {
  const address = `${origin}/v1/data/${path}`;
  const curl = `curl -H "Authorization: Bearer $UPROAR_KEY"`;
  return [
    { group: 'Address', name: 'Address', text: address },
    { group: 'Shell', name: 'curl, once', text: `${curl} ${shell(address)}` },
    { group: 'Shell', name: 'curl, live', text: `${curl} -N -H 'Accept: text/event-stream' ${shell(address)}` },
  ];
}

/** The call that begins the watch, as code. */
function watchOf(parts: Record<string, string>): string {
  const lines = Object.entries(parts).map(([name, value]) => {
    const number = name === 'limit' && /^\d+$/.test(value);
    return `  ${name}: ${number ? value : JSON.stringify(value)},`;
  });
  return lines.length > 0 ? `watch({\n${lines.join('\n')}\n})` : 'watch()';
}

function copiesForClient(origin: string, collection: string, watch: string): Copy[] {
  const store = `const store = connect('${origin}', { token: TOKEN });`;
  const begun = `store.collection('${collection}').${watch}`;
  const typescript = [
    '// UPROAR_KEY=… npx tsx live.ts',
    `import { connect } from '@uproar/client';`,
    '',
    store.replace('TOKEN', `process.env.UPROAR_KEY ?? ''`),
    `const watch = ${begun};`,
    'watch.subscribe(({ state, documents, error }) => {',
    '  console.log(state, error?.detail ?? documents.map(({ id, data }) => ({ id, ...data })));',
    '});',
  ];
  const react = [
    `import { connect } from '@uproar/client';`,
    `import { useWatch } from '@uproar/react';`,
    '',
    `// A key must not be part of a public app: sign in, and pass a function that returns the token.`,
    store.replace('TOKEN', 'import.meta.env.VITE_UPROAR_KEY'),
    '',
    'export default function App() {',
    `  const { state, documents, error } = useWatch(() => ${indent(begun)}, []);`,
    `  if (error) return <p role="alert">{error.detail}</p>;`,
    `  if (state === 'loading') return <p>Loading…</p>;`,
    '  return (',
    '    <ul>',
    '      {documents.map(({ id, data }) => (',
    '        <li key={id}>{JSON.stringify(data)}</li>',
    '      ))}',
    '    </ul>',
    '  );',
    '}',
  ];
  const vue = [
    '<script setup lang="ts">',
    `import { connect } from '@uproar/client';`,
    `import { useWatch } from '@uproar/vue';`,
    '',
    `// A key must not be part of a public app: sign in, and pass a function that returns the token.`,
    store.replace('TOKEN', 'import.meta.env.VITE_UPROAR_KEY'),
    `const view = useWatch(() => ${begun});`,
    '</script>',
    '',
    '<template>',
    '  <p v-if="view?.error" role="alert">{{ view.error.detail }}</p>',
    `  <p v-else-if="!view || view.state === 'loading'">Loading…</p>`,
    '  <ul v-else>',
    '    <li v-for="{ id, data } in view.documents" :key="id">{{ data }}</li>',
    '  </ul>',
    '</template>',
  ];
  return [
    { group: 'TypeScript', name: 'TypeScript', text: lines(typescript) },
    { group: 'TypeScript', name: 'React', text: lines(react) },
    { group: 'TypeScript', name: 'Vue', text: lines(vue) },
  ];
}

/** Programs without our client: once with what the language has itself, live with the recipe that the store serves. */
function copiesOfPrograms(path: string, origin: string): Copy[] {
  const address = `${origin}/v1/data/${path}`;
  const python = [
    'import json',
    'import os',
    'import urllib.request',
    '',
    'request = urllib.request.Request(',
    `    ${JSON.stringify(address)},`,
    `    headers={"Authorization": f"Bearer {os.environ['UPROAR_KEY']}"},`,
    ')',
    'with urllib.request.urlopen(request, timeout=30) as response:',
    '    result = json.load(response)',
    'print(json.dumps(result, indent=2))',
  ];
  const java = [
    'import java.net.URI;',
    'import java.net.http.HttpClient;',
    'import java.net.http.HttpRequest;',
    'import java.net.http.HttpResponse.BodyHandlers;',
    '',
    '// UPROAR_KEY=… java Once.java',
    'public final class Once {',
    '    public static void main(String[] arguments) throws Exception {',
    '        var request = HttpRequest.newBuilder(URI.create(',
    `                ${JSON.stringify(address)}))`,
    '            .header("Authorization", "Bearer " + System.getenv("UPROAR_KEY"))',
    '            .build();',
    '        var response = HttpClient.newHttpClient().send(request, BodyHandlers.ofString());',
    '        if (response.statusCode() != 200) throw new IllegalStateException(response.body());',
    '        System.out.println(response.body());',
    '    }',
    '}',
  ];
  // The recipes keep the documents of a result; one document is a result of at most one.
  const [collection, id] = path.includes('?') || !path.includes('/') ? [path] : path.split('/');
  const watched = id === undefined ? path : `${collection}?where=${encodeURIComponent(`meta('id') = '${id}'`)}`;
  const live = (file: string, run: string) =>
    lines([
      `curl -sSO ${shell(`${origin}/docs/recipes/${file}`)}`,
      `UPROAR_URL=${shell(origin)} ${run} ${shell(watched)}`,
    ]);
  return [
    { group: 'Python', name: 'Python, once', text: lines(python) },
    { group: 'Python', name: 'Python, live', text: live('live.py', 'python3 live.py') },
    { group: 'Java', name: 'Java, once', text: lines(java) },
    { group: 'Java', name: 'Java, live', text: live('Live.java', 'java Live.java') },
  ];
}

const lines = (some: readonly string[]) => `${some.join('\n')}\n`;
const indent = (text: string) => text.replaceAll('\n', '\n  ');

/** A text as one word of a shell. */
function shell(text: string): string {
  return /^[\w./:@%+=-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`;
}
