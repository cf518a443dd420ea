/**
 * What stands in every sandbox before the team's code: the few things that it can reach, as calls of the service. Written in
 * plain JavaScript, since it runs inside.
 */
export const PRELUDE = `
(() => {
  const call = globalThis.__call;
  const note = globalThis.__log;
  Math.random = globalThis.__random;
  delete globalThis.__call;
  delete globalThis.__log;
  delete globalThis.__random;
  const ask = async (name, ...args) => {
    const text = await call(name, JSON.stringify(args));
    return text === '' ? undefined : JSON.parse(text);
  };
  const shown = (value) => {
    if (typeof value === 'string') return value;
    if (value instanceof Error) return value.stack ? value.message + '\\n' + value.stack : value.message;
    try { return JSON.stringify(value) ?? String(value); } catch { return String(value); }
  };
  const by = (names, make) => Object.freeze(Object.fromEntries(names.map((name) => [name, make(name)])));
  const log = by(['info', 'warn', 'error'], (level) => (...values) => note(level, values.map(shown).join(' ')));
  class Refusal extends Error {
    constructor(text, { status = 422, field } = {}) { Object.assign(super(text), { name: 'Refusal', status, field }); }
  }
  const methods = ['read', 'list', 'summary', 'create', 'put', 'change', 'remove'];
  const under = (prefix, names, ...first) => by(names, (name) => (...args) => ask(prefix + '.' + name, ...first, ...args));
  const reach = Object.freeze({
    records: (name) => under('records', methods, name),
    together: (actions) => ask('together', actions),
    rely: (collection, id, version) => ask('rely', collection, id, version),
    users: under('users', ['read', 'list', 'change']),
    files: under('files', ['read', 'list', 'text', 'write', 'change', 'remove', 'share']),
    notify: (notification) => ask('notify', notification),
    channels: (name) => under('channels', ['publish'], name),
    upstreams: (name) => under('upstreams', ['call'], name),
    providerToken: (way) => ask('providerToken', way),
    secret: (name) => ask('secret', name),
    fetch: (address, options) => ask('fetch', address, options),
    log,
    refuse: (text, options) => { throw new Refusal(text, options); },
  });
  const tests = [];
  globalThis.test = (name, parts) => { tests.push({ name: String(name), ...parts }); };
  const same = (a, b) => JSON.stringify(a) === JSON.stringify(b);
  const expect = Object.freeze({
    equal: (found, wanted) => { if (!same(found, wanted)) throw new Error('found ' + shown(found) + ', wanted ' + shown(wanted)); },
    holds: (truth, words) => { if (!truth) throw new Error(words ?? 'it does not hold'); },
  });
  globalThis.__tester = (handler) => async ({ number, event }) => {
    const one = tests[number];
    if (!one) return { count: tests.length };
    try {
      for (const [collection, records] of Object.entries(one.given ?? {}))
        for (const record of records) await reach.records(collection).create(record);
      const found = {};
      try {
        found.answer = (await handler({ ...event, ...one.when }, { ...reach, rely: async () => undefined })) ?? null;
      } catch (error) {
        if (error instanceof Refusal) found.refusal = { text: error.message, status: error.status, field: error.field };
        else found.error = error instanceof Error ? error.message : shown(error);
      }
      if (found.error !== undefined && !one.then) throw new Error(found.error);
      await one.then?.(found, expect, reach);
      return { count: tests.length, name: one.name };
    } catch (error) {
      return { count: tests.length, name: one.name, failed: error instanceof Error ? error.message : shown(error) };
    }
  };
  globalThis.console = Object.freeze({ log: log.info, ...log });
  globalThis.__start = (handler, argument) => {
    if (typeof handler !== 'function') throw new TypeError('The file has no default export that is a function.');
    return Promise.resolve().then(() => handler(JSON.parse(argument), reach)).then(
      (value) => JSON.stringify({ answer: value ?? null }),
      (error) => JSON.stringify(
        error instanceof Refusal
          ? { refusal: { text: error.message, status: error.status, field: error.field } }
          : { error: error instanceof Error ? error.name + ': ' + error.message : shown(error), stack: error instanceof Error ? error.stack : undefined },
      ),
    );
  };
})();
`;
