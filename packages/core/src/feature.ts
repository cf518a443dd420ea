/** Which part of the backend a call uses, by its route. */

const TEAM = 'console and command line';
/** First segments below `/app/v1/`, where the feature has another name. */
const OF_SEGMENT: Record<string, string> = {
  users: 'accounts',
  sessions: 'accounts',
  'password-links': 'accounts',
  'new-passwords': 'accounts',
  'passkey-challenges': 'accounts',
  'sign-in-codes': 'accounts',
  'sign-in-nonces': 'accounts',
  'push-key': 'devices',
};
const RECORDS = 'records of ';

/**
 * @param route as recorded, such as `/app/v1/data/{collection}/{id}`
 * @param target the collection or channel it names; empty for none
 * @returns `records of huts`, `devices`, `accounts`; of calls that members make, `console and command line`
 */
export function featureOf(route: string, target: string): string {
  const [, root = '', , segment = ''] = route.split('/');
  if (root === 'manage') return TEAM;
  if (root === 'identity') return 'accounts';
  if (root !== 'app') return 'other';
  if (segment === 'data' || segment === 'summaries' || segment === 'batch') return target ? `${RECORDS}${target}` : 'records';
  return OF_SEGMENT[segment] ?? segment;
}

/** A filter (CQL2) over requests for the calls of a feature; null where none says it. */
export function featureFilter(feature: string): string | null {
  if (feature === 'other') return null;
  if (feature === TEAM) return "route LIKE '/manage/%'";
  if (feature === 'records') return "route LIKE '/app/v1/batch%'";
  if (feature.startsWith(RECORDS))
    return `target = '${feature.slice(RECORDS.length)}' AND (route LIKE '/app/v1/data%' OR route LIKE '/app/v1/summaries%')`;
  const segments = Object.keys(OF_SEGMENT).filter((segment) => OF_SEGMENT[segment] === feature);
  // Accounts have no segment of that name, and the sign-in page besides.
  const routes = feature === 'accounts' ? [...segments.map(below), '/identity/%'] : [feature, ...segments].map(below);
  return routes.map((route) => `route LIKE '${route}'`).join(' OR ');
}

const below = (segment: string): string => `/app/v1/${segment}%`;
