// The arrows between packages, as docs/architecture.md draws them.
const ARROWS = {
  core: [],
  contract: ['core'],
  client: ['contract', 'core'],
  react: ['client'],
  hiker: ['client', 'react'],
  service: ['core', 'contract'],
  cli: ['contract'],
  console: ['contract', 'core'],
  simulators: ['core'],
  // The demo writes a week of past calls, which no API does; service/past is made for that alone.
  demo: ['contract', 'core', 'simulators', 'service'],
};
const names = Object.keys(ARROWS);

// Which room of the service may use which, over the platform that all stand on. A room may only name those above its
// own line, so that there are no circles between rooms, by types either; where one has to ask a room after it, it
// offers a port that the other fills.
const ROOMS = {
  'setup/notices': [],
  'setup/audit': [],
  'setup/tokens': [],
  'setup/members': [],
  'setup/apps': [],
  'operations/telemetry': [],
  'operations/objectives': ['operations/telemetry'],
  'operations/logs': ['operations/telemetry'],
  'operations/otlp': ['operations/telemetry'],
  'operations/jobs': ['setup/notices'],
  'operations/instances': [],
  'data/collections': ['setup/notices'],
  'messages/settings': [],
  'messages/gateways': ['setup/apps', 'setup/notices'],
  'setup/memberWays': ['setup/members', 'setup/notices', 'messages/gateways'],
  'operations/alerts': [
    'operations/objectives',
    'operations/telemetry',
    'setup/apps',
    'setup/memberWays',
    'setup/notices',
    'messages/gateways',
  ],
  'people/users': ['messages/gateways'],
  'people/factors': ['people/users'],
  'people/accounts': ['messages/gateways', 'messages/settings', 'people/users'],
  'people/providers': ['people/accounts', 'people/factors', 'people/users'],
  'people/identity': ['people/accounts', 'people/factors', 'people/providers', 'people/users'],
  'setup/memberEntry': ['setup/members', 'people/identity', 'people/providers'],
  'messages/optOuts': ['messages/gateways'],
  'messages/presence': [],
  'data/records': ['data/collections', 'people/users'],
  'data/imports': ['data/collections', 'data/records'],
  'data/outside': ['data/collections', 'data/records'],
  'data/functions': ['data/collections', 'data/records', 'people/users'],
  'data/upstreams': ['data/functions'],
  'data/files': ['data/collections', 'data/functions', 'data/records', 'people/users'],
  'data/sites': ['data/collections', 'data/files', 'data/records', 'setup/apps'],
  'data/broadcasts': ['data/collections', 'data/files', 'data/records'],
  'messages/devices': ['messages/gateways', 'messages/settings', 'people/users'],
  'data/sync': [
    'data/collections',
    'data/functions',
    'data/records',
    'messages/devices',
    'messages/gateways',
    'people/users',
    'setup/apps',
  ],
  'messages/topics': ['messages/devices', 'people/users'],
  'messages/notifications': [
    'messages/devices',
    'messages/gateways',
    'messages/optOuts',
    'messages/presence',
    'messages/topics',
    'people/users',
  ],
  'messages/standing': ['data/collections', 'data/records', 'messages/devices', 'messages/notifications', 'people/users', 'setup/notices'],
  'messages/sms': ['messages/gateways', 'messages/notifications', 'messages/optOuts', 'people/users'],
  'messages/mail': ['messages/notifications'],
  'messages/channels': ['messages/notifications', 'messages/presence'],
  'messages/turn': [],
  'insight/events': ['messages/devices'],
  'insight/questions': ['insight/events', 'messages/notifications', 'operations/telemetry'],
  'insight/dateNotes': [],
  'insight/behaviour': ['insight/events', 'insight/questions'],
  'operations/reports': ['operations/telemetry', 'setup/members'],
  'insight/sheets': ['operations/reports'],
  'setup/setups': ['data/functions'],
  'setup/backups': ['data/collections', 'data/files', 'data/records', 'data/sites', 'setup/notices'],
  'setup/arrivals': ['setup/backups', 'data/files'],
  'setup/moves': ['setup/arrivals', 'setup/backups', 'data/collections', 'data/files'],
};
const rooms = Object.keys(ROOMS);
const SERVICE = '^packages/service/src';
for (const [at, room] of rooms.entries()) {
  const later = ROOMS[room].find((used) => !rooms.slice(0, at).includes(used));
  if (later) throw new Error(`${room} may not use ${later}, which comes after it.`);
}
// The same inside the platform: its root files (the platform's parts, a call, a capability) are open to all.
const FLOOR = {
  database: [],
  threads: [],
  settings: ['database'],
  live: ['access', 'database'],
  access: ['database', 'threads'],
  jobs: ['access', 'database'],
  audit: ['access', 'database'],
  http: ['access', 'audit', 'database', 'instances'],
  instances: ['database'],
};

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
      name: 'demo-takes-past-only',
      severity: 'error',
      from: { path: '^packages/demo/src' },
      to: { path: '^packages/service/(?!dist/past)' },
    },
    {
      name: 'core-is-pure',
      severity: 'error',
      comment: 'core does no I/O',
      from: { path: '^packages/core/src' },
      to: { path: '^(node:)?(fs|net|http|https|child_process|os|dns|timers|process)' },
    },
    { name: 'core-runs-in-browsers', severity: 'error', from: { path: '^packages/core/src/(?!push/)' }, to: { dependencyTypes: ['core'] } },
    {
      name: 'platform-below-all',
      severity: 'error',
      from: { path: `${SERVICE}/platform/` },
      to: { path: `${SERVICE}/(?!platform/)` },
    },
    ...rooms.map((room) => ({
      name: `${room}-uses`,
      severity: 'error',
      comment: `${room} may use ${ROOMS[room].join(', ') || 'the platform alone'}`,
      from: { path: `${SERVICE}/${room}/` },
      to: { path: `${SERVICE}/(?!platform/|${[room, ...ROOMS[room]].map((used) => `${used}/`).join('|')})` },
    })),
    ...Object.entries(FLOOR).map(([folder, used]) => ({
      name: `platform-${folder}-uses`,
      severity: 'error',
      from: { path: `${SERVICE}/platform/${folder}/` },
      to: { path: `${SERVICE}/platform/(?!${[folder, ...used].join('/|')}/)[^/]+/` },
    })),
    ...rooms.map((room) => ({
      name: `${room}-tables`,
      severity: 'error',
      comment: `the tables of ${room} are read and written by its own files; other rooms call its named functions`,
      from: { path: `${SERVICE}/(?!${room}/)(data|people|messages|operations|setup)/` },
      to: { path: `${SERVICE}/${room}/(tables|systemTables)\\.ts` },
    })),
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
