// The arrows between packages, as docs/architecture.md draws them.
const ARROWS = {
  core: [],
  contract: ['core'],
  client: ['contract'],
  service: ['core', 'contract'],
  cli: ['contract'],
  console: ['contract', 'core'],
  simulators: ['core'],
  // The demo writes a week of past calls, which no API does; service/history is made for that alone.
  demo: ['contract', 'core', 'simulators', 'service'],
};
const names = Object.keys(ARROWS);

/** @type {import('dependency-cruiser').IConfiguration} */
export default {
  forbidden: [
    ...names.map((name) => ({
      name: `${name}-imports`,
      severity: 'error',
      comment: `packages/${name} may import ${ARROWS[name].join(', ') || 'nothing of ours'}`,
      from: { path: `^packages/${name}/src` },
      to: { path: `^packages/(${names.filter((other) => other !== name && !ARROWS[name].includes(other)).join('|')})/` },
    })),
    {
      name: 'demo-takes-history-only',
      severity: 'error',
      from: { path: '^packages/demo/src' },
      to: { path: '^packages/service/(?!dist/history)' },
    },
    {
      name: 'core-is-pure',
      severity: 'error',
      comment: 'core does no I/O',
      from: { path: '^packages/core/src' },
      to: { path: '^(node:)?(fs|net|http|https|child_process|os|dns|timers|process)' },
    },
    { name: 'core-runs-in-browsers', severity: 'error', from: { path: '^packages/core/src/(?!push/)' }, to: { dependencyTypes: ['core'] } },
    { name: 'no-circles', severity: 'error', from: {}, to: { circular: true } },
  ],
  options: {
    doNotFollow: { path: 'node_modules|/dist/' },
    exclude: { path: '/dist/(?!.*\\.js)|/test/' },
    tsConfig: { fileName: 'tsconfig.base.json' },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'default', 'types'],
      extensions: ['.ts', '.tsx', '.js', '.json'],
    },
  },
};
