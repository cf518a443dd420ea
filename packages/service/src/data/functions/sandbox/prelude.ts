/**
 * What stands in every sandbox before the team's code: the few things that it can reach, as calls of the service. Written in
 * plain JavaScript, since it runs inside.
 */
export const PRELUDE = `
(() => {
  const call = globalThis.__call;
  const note = globalThis.__log;
  delete globalThis.__call;
  delete globalThis.__log;
  const ask = async (name, ...args) => {
    const text = await call(name, JSON.stringify(args));
    return text === '' ? undefined : JSON.parse(text);
  };
  const shown = (value) => {
    if (typeof value === 'string') return value;
    if (value instanceof Error) return value.stack ? value.message + '\\n' + value.stack : value.message;
    try { return JSON.stringify(value) ?? String(value); } catch { return String(value); }
  };
  const log = (level) => (...values) => note(level, values.map(shown).join(' '));
  /** Ends a run with an answer that names a problem: a status, and words for whoever called. */
  class Refusal extends Error {
    constructor(text, { status = 422, field } = {}) {
      super(text);
      this.name = 'Refusal';
      this.status = status;
      this.field = field;
    }
  }
  const collection = (name) => Object.freeze({
    read: (id, query) => ask('records.read', name, id, query),
    list: (query) => ask('records.list', name, query),
    summary: (query) => ask('records.summary', name, query),
    create: (record) => ask('records.create', name, record),
    put: (id, record, options) => ask('records.put', name, id, record, options),
    change: (id, changes, options) => ask('records.change', name, id, changes, options),
    remove: (id, options) => ask('records.remove', name, id, options),
  });
  const reach = {
    records: collection,
    secret: (name) => ask('secret', name),
    fetch: (address, options) => ask('fetch', address, options),
    log: Object.freeze({ info: log('info'), warn: log('warn'), error: log('error') }),
    refuse: (text, options) => { throw new Refusal(text, options); },
  };
  globalThis.console = Object.freeze({ log: log('info'), info: log('info'), warn: log('warn'), error: log('error') });
  globalThis.__start = (handler, argument) => {
    if (typeof handler !== 'function') throw new TypeError('The file has no default export that is a function.');
    return Promise.resolve().then(() => handler(JSON.parse(argument), Object.freeze(reach))).then(
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
