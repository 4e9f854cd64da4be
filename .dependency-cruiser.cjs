'use strict';
// Imports point one way: between packages, and between the folders of a package.

/** The packages that each package may import. */
const PACKAGES = {
  core: [],
  protocol: ['core'],
  service: ['core', 'protocol'],
  client: ['core', 'protocol'],
  vue: ['client'],
  react: ['client'],
  console: ['core', 'protocol', 'client', 'vue'],
  cli: ['core', 'protocol', 'client', 'service', 'console'],
};

/** The folders that each folder of a package may import. `.` is the package's own `src`. */
const FOLDERS = {
  core: {
    json: [],
    text: [],
    document: ['json'],
    query: ['json', 'text', 'document'],
    policy: ['json', 'text', 'document', 'query'],
    write: ['json', 'document', 'query', 'policy'],
    shape: ['json', 'text', 'document', 'query'],
    matcher: ['json', 'document', 'query', 'write'],
    views: ['json', 'document', 'write'],
    related: ['json', 'document', 'query', 'write', 'matcher', 'views'],
    summary: ['json', 'document', 'query', 'write', 'views'],
  },
  service: {
    limits: [],
    state: [],
    log: ['state'],
    store: ['limits', 'state', 'log'],
    cluster: ['.', 'state', 'log', 'store'],
    schemas: ['store', 'identity'],
    identity: ['state', 'store'],
    metrics: ['.', 'limits', 'store'],
    usage: ['state', 'store'],
    commit: ['store', 'identity', 'metrics', 'usage'],
    connections: ['identity'],
    reading: ['state', 'store'],
    live: ['limits', 'store', 'metrics', 'usage', 'reading'],
    hooks: ['.', 'state', 'store', 'identity', 'reading'],
    erasure: ['state', 'store', 'identity', 'reading'],
    presence: ['store'],
    setup: ['state', 'schemas', 'store', 'hooks', 'reading'],
    // What HTTP, event streams and WebSockets share.
    requests: [
      '.',
      'cluster',
      'limits',
      'state',
      'store',
      'schemas',
      'identity',
      'metrics',
      'usage',
      'commit',
      'connections',
      'reading',
      'live',
      'hooks',
      'erasure',
      'presence',
    ],
    'event-stream': ['identity', 'live', 'requests'],
    websocket: ['.', 'store', 'identity', 'usage', 'connections', 'reading', 'live', 'requests'],
    http: [
      '.',
      'limits',
      'state',
      'store',
      'schemas',
      'identity',
      'metrics',
      'usage',
      'commit',
      'reading',
      'live',
      'hooks',
      'setup',
      'requests',
      'event-stream',
    ],
  },
  client: {
    transport: ['.'],
    storage: ['.'],
    outbox: ['storage'],
    schema: [],
    views: ['transport', 'storage', 'outbox', 'schema'],
    collections: ['.', 'transport', 'schema', 'views', 'presence'],
    presence: ['.', 'transport'],
    files: ['.', 'storage', 'views'],
  },
  console: {
    components: [],
    unsaved: ['components', 'shared'],
    shared: [],
    table: ['components', 'shared', 'unsaved'],
    cql: ['components', 'table'],
    actions: ['shared', 'table'],
    document: ['components', 'shared', 'unsaved', 'actions'],
    'sign-in': ['components', 'unsaved'],
    access: ['components', 'shared', 'unsaved', 'table'],
    api: ['components', 'shared'],
    data: ['components', 'shared', 'unsaved', 'table', 'cql', 'actions', 'document', 'sign-in'],
    devices: ['components', 'shared'],
    hooks: ['components', 'shared', 'unsaved'],
    journal: ['components', 'shared', 'unsaved', 'cql'],
    operations: ['components', 'shared'],
    query: ['components', 'shared', 'unsaved', 'table', 'cql'],
    shapes: ['components', 'shared', 'unsaved', 'table'],
    usage: ['components', 'shared'],
    shell: ['components', 'shared', 'unsaved', 'sign-in'],
  },
  cli: {
    output: [],
    connect: ['output'],
    arguments: ['output', 'connect'],
    demo: ['output'],
    settings: ['output', 'arguments'],
    import: ['output'],
    policy: ['output', 'arguments', 'connect'],
    setup: ['output', 'arguments'],
    rewrite: ['output', 'arguments'],
    conformance: [],
    commands: [
      'output',
      'arguments',
      'conformance',
      'connect',
      'demo',
      'import',
      'policy',
      'rewrite',
      'settings',
      'setup',
    ],
  },
};

const packageRules = Object.entries(PACKAGES).map(([name, allowed]) => ({
  name: `${name}-imports-only-${allowed.join('-') || 'nothing'}`,
  severity: 'error',
  from: { path: `^packages/${name}/src` },
  to: { path: '^packages/', pathNot: `^packages/(${[name, ...allowed].join('|')})/` },
}));

const folderRules = Object.entries(FOLDERS).flatMap(([name, folders]) =>
  Object.entries(folders).map(([folder, allowed]) => {
    const inside = [folder, ...allowed.filter((other) => other !== '.')].map((other) => `${other}/`);
    // Only files directly in `src`, not its folders.
    if (allowed.includes('.')) inside.push('[^/]+$');
    return {
      name: `${name}-${folder}-imports-only-${allowed.join('-') || 'nothing'}`,
      severity: 'error',
      from: { path: `^packages/${name}/src/${folder}/` },
      to: { path: `^packages/${name}/src/`, pathNot: `^packages/${name}/src/(${inside.join('|')})` },
    };
  }),
);

module.exports = {
  forbidden: [
    ...packageRules,
    ...folderRules,
    {
      name: 'every-folder-has-a-rule',
      comment: 'A new folder states in FOLDERS what it may import.',
      severity: 'error',
      from: {},
      to: {
        path: `^packages/(${Object.keys(FOLDERS).join('|')})/src/[^/]+/`,
        pathNot: Object.entries(FOLDERS).map(
          ([name, folders]) => `^packages/${name}/src/(${Object.keys(folders).join('|')})/`,
        ),
      },
    },
    {
      name: 'core-is-pure',
      comment: 'The core and the protocol run anywhere: they use no module of Node.js.',
      severity: 'error',
      from: { path: '^packages/(core|protocol)/src' },
      to: { dependencyTypes: ['core'] },
    },
    {
      name: 'state-is-deterministic',
      comment: 'Applying a record depends on the state and the record alone: no files, no network, no settings.',
      severity: 'error',
      from: { path: '^packages/service/src/state' },
      to: { dependencyTypes: ['core'], pathNot: '^(node:)?crypto$' },
    },
    { name: 'no-circles', comment: 'Type-only imports count.', severity: 'error', from: {}, to: { circular: true } },
    { name: 'nothing-unresolvable', severity: 'error', from: {}, to: { couldNotResolve: true } },
    {
      name: 'no-test-code-in-sources',
      severity: 'error',
      from: { path: '/src/' },
      to: { path: '/test/|^test/' },
    },
  ],
  options: {
    doNotFollow: { path: 'node_modules|/dist/' },
    tsPreCompilationDeps: true,
    combinedDependencies: true,
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'types', 'node', 'default'],
      extensions: ['.ts', '.js', '.vue', '.mjs'],
    },
    tsConfig: { fileName: 'tsconfig.base.json' },
  },
};
