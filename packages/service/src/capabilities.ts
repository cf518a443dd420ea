/** The rooms of the service, each after those it stands on. Adding a room is one line here. */
import { broadcasts } from './data/broadcasts/capability.js';
import { collections } from './data/collections/capability.js';
import { files } from './data/files/capability.js';
import { functions } from './data/functions/capability.js';
import { imports } from './data/imports/capability.js';
import { outside } from './data/outside/capability.js';
import { records } from './data/records/capability.js';
import { sites } from './data/sites/capability.js';
import { upstreams } from './data/upstreams/capability.js';
import { behaviour } from './insight/behaviour/capability.js';
import { dateNotes } from './insight/dateNotes/capability.js';
import { events } from './insight/events/capability.js';
import { questions } from './insight/questions/capability.js';
import { channels } from './messages/channels/capability.js';
import { devices } from './messages/devices/capability.js';
import { gateways } from './messages/gateways/capability.js';
import { mail } from './messages/mail/capability.js';
import { notifications } from './messages/notifications/capability.js';
import { optOuts } from './messages/optOuts/capability.js';
import { messageSettings } from './messages/settings/capability.js';
import { sms } from './messages/sms/capability.js';
import { standing } from './messages/standing/capability.js';
import { turn } from './messages/turn/capability.js';
import { sync } from './data/sync/capability.js';
import { topics } from './messages/topics/capability.js';
import { alerts } from './operations/alerts/capability.js';
import { jobs } from './operations/jobs/capability.js';
import { logs } from './operations/logs/capability.js';
import { objectives } from './operations/objectives/capability.js';
import { otlp } from './operations/otlp/capability.js';
import { reports } from './operations/reports/capability.js';
import { telemetry } from './operations/telemetry/capability.js';
import { accounts } from './people/accounts/capability.js';
import { userFactors } from './people/factors/capability.js';
import { identity } from './people/identity/capability.js';
import { providers } from './people/providers/capability.js';
import { users } from './people/users/capability.js';
import type { Capability } from './platform/capability.js';
import type { Platform } from './platform/platform.js';
import { apps } from './setup/apps/capability.js';
import { audit } from './setup/audit/capability.js';
import { memberEntry } from './setup/memberEntry/capability.js';
import { memberWays } from './setup/memberWays/capability.js';
import { members } from './setup/members/capability.js';
import { sheets } from './insight/sheets/capability.js';
import { backups } from './setup/backups/capability.js';
import { instances } from './operations/instances/capability.js';
import { arrivals } from './setup/arrivals/capability.js';
import { moves } from './setup/moves/capability.js';
import { setups } from './setup/setups/capability.js';
import { tokens } from './setup/tokens/capability.js';
import { notices } from './setup/notices/capability.js';

const ROOMS = [
  telemetry,
  objectives,
  logs,
  otlp,
  notices,
  jobs,
  audit,
  tokens,
  members,
  apps,
  collections,
  messageSettings,
  gateways,
  memberWays,
  alerts,
  users,
  userFactors,
  accounts,
  providers,
  identity,
  memberEntry,
  records,
  imports,
  outside,
  functions,
  upstreams,
  files,
  sites,
  broadcasts,
  optOuts,
  devices,
  sync,
  topics,
  notifications,
  standing,
  sms,
  mail,
  channels,
  turn,
  events,
  questions,
  dateNotes,
  behaviour,
  reports,
  sheets,
  setups,
  backups,
  instances,
  arrivals,
  moves,
] as const;

type OfferOf<R> = R extends (...needs: never[]) => { offer?: infer Offer extends object } ? (object extends Offer ? never : Offer) : never;
type All<U> = (U extends unknown ? (one: U) => void : never) extends (all: infer I) => void ? I : never;
/** The platform with all that rooms offer. */
export type Parts = Platform & All<OfferOf<(typeof ROOMS)[number]>>;

/** Builds the rooms one after another, each on what those before it offer. */
export function openRooms(platform: Platform): { parts: Parts; capabilities: Capability[] } {
  const parts = { ...platform };
  const capabilities = ROOMS.map((room) => {
    const capability: Capability = room(parts as never);
    Object.assign(parts, capability.offer);
    return capability;
  });
  return { parts: parts as Parts, capabilities };
}
