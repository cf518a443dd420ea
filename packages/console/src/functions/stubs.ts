/** Code to begin with: each runs as it is. */
import type { FunctionShown, HookOn } from '@orchard/contract';

const ENDPOINT = `const handler: Endpoint = async ({ params, query, caller }, { records, log }) => {
  log.info('called by', caller.kind);
  return { body: { hello: query.name ?? 'hiker' } };
};
export default handler;
`;
const SCHEDULE = `const handler: Schedule = async ({ due }, { records, log }) => {
  log.info('due at', due);
};
export default handler;
`;
const beforeWrite = (
  collection: string,
) => `const handler: BeforeWrite<'${collection}'> = ({ action, before, record, caller }, { refuse, log }) => {
  log.info(action, 'by', caller.kind);
  // refuse('In your own words.', { field: 'name' });
  // return { record: { name: 'set by the team' } };
};
export default handler;
`;
const afterWrite = (
  collection: string,
) => `const handler: AfterWrite<'${collection}'> = async ({ action, id, record, key }, { records, notify, log }) => {
  log.info(action, id);
};
export default handler;
`;
const BEFORE_READ = `const handler: BeforeRead = ({ caller }) => {
  // return { filter: "state = 'open'" };
};
export default handler;
`;
const reshape = (
  collection: string,
) => `const handler: Reshape<'${collection}'> = ({ items }) => ({ items: items.map((item) => ({ ...item })) });
export default handler;
`;
const BEFORE_ACTION = `const handler: BeforeAction = ({ action, value }, { refuse, log }) => {
  log.info(action, Object.keys(value));
};
export default handler;
`;
const AFTER_ACTION = `const handler: AfterAction = async ({ action, id, value, key }, { log }) => {
  log.info(action, id);
};
export default handler;
`;

export function stubFor(kind: FunctionShown['kind'], { moment, collection, actions }: HookOn): string {
  if (kind === 'endpoint') return ENDPOINT;
  if (kind === 'schedule') return SCHEDULE;
  if (!collection) return moment === 'after' ? AFTER_ACTION : BEFORE_ACTION;
  if (moment === 'answer') return reshape(collection);
  if (moment === 'after') return afterWrite(collection);
  return actions.some((action) => action === 'read' || action === 'list') ? BEFORE_READ : beforeWrite(collection);
}
