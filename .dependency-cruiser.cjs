'use strict';
// Arrows point one way: core <- protocol <- client <- vue, cli, console; core, protocol <- service.
const ALLOWED = {
  core: [],
  protocol: ['core'],
  service: ['core', 'protocol'],
  client: ['core', 'protocol'],
  vue: ['client'],
  console: ['core', 'protocol', 'client', 'vue'],
  cli: ['core', 'protocol', 'client', 'service', 'console'],
};

module.exports = {
  forbidden: [
    ...Object.entries(ALLOWED).map(([name, allowed]) => ({
      name: `${name}-imports-only-${allowed.join('-') || 'nothing'}`,
      severity: 'error',
      from: { path: `^packages/${name}/src` },
      to: { path: '^packages/', pathNot: `^packages/(${[name, ...allowed].join('|')})/` },
    })),
    {
      name: 'core-is-pure',
      comment: 'The core runs anywhere: it uses nothing of Node.js.',
      severity: 'error',
      from: { path: '^packages/(core|protocol)/src' },
      to: { dependencyTypes: ['core'] },
    },
    {
      name: 'no-circles',
      severity: 'error',
      from: {},
      to: { circular: true, viaOnly: { dependencyTypesNot: ['type-only'] } },
    },
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
    enhancedResolveOptions: { exportsFields: ['exports'], conditionNames: ['import', 'types', 'node', 'default'] },
    tsConfig: { fileName: 'tsconfig.base.json' },
  },
};
