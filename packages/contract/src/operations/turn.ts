import { z } from 'zod';
import { ENVIRONMENT, environmentParams, operation, time } from '../common.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;

/** A host or IP address, with a port and a transport if need be. */
const PLACE =
  /^(?:(?:stuns?:)(?:[a-z0-9.-]+|\[[0-9a-f:]+\])(?::\d{1,5})?|(?:turns?:)(?:[a-z0-9.-]+|\[[0-9a-f:]+\])(?::\d{1,5})?(?:\?transport=(?:udp|tcp))?)$/i;
const serverAddress = z
  .string()
  .max(300)
  .regex(
    PLACE,
    'An address as in RFC 7064 and RFC 7065, such as turn:turn.quillfell.example:3478?transport=udp or stun:turn.quillfell.example.',
  );
const own = {
  addresses: z.array(serverAddress).max(10).describe('Of STUN and TURN servers (RFC 7064 and RFC 7065)'),
  minutes: z.int().min(1).max(1440).describe('How long credentials are valid'),
  who: z.string().trim().min(1).max(4000).describe("A filter in CQL2 over me('id') and me('roles'): who gets credentials"),
};
export const turnSettings = z
  .object({ ...own, hasSecret: z.boolean().describe('Whether a secret shared with the TURN servers is stored; it is never shown') })
  .meta({ id: 'TurnSettings' });
export type TurnSettings = z.infer<typeof turnSettings>;
const changes = z.strictObject({
  ...z.object(own).partial().shape,
  secret: z.string().min(1).max(500).nullable().optional().describe('Shared with the TURN servers; null forgets it'),
});
const iceServers = z
  .object({
    iceServers: z
      .array(z.object({ urls: z.array(z.string()), username: z.string().optional(), credential: z.string().optional() }))
      .describe('Goes into the configuration of an RTCPeerConnection as it is (W3C WebRTC, section 4.2)'),
    expiresAt: time.nullable().describe('Null where no credentials are needed'),
  })
  .meta({ id: 'IceServers' });
export type IceServers = z.infer<typeof iceServers>;
export const turnTrial = z
  .object({
    address: z.string(),
    works: z.boolean(),
    durationMs: z.number().nullable(),
    relayed: z.string().nullable().describe('The address the server gave for relaying'),
    detail: z.string().describe('What it answered, and what to do'),
  })
  .meta({ id: 'TurnTrial' });
export type TurnTrial = z.infer<typeof turnTrial>;

export const turnOperations = {
  credentials: operation({
    id: 'turn.credentials',
    changes: 'nothing',
    library: 'iceServers()',
    method: 'POST',
    path: '/app/v1/ice-servers',
    summary: 'Servers for a call between people (WebRTC), with credentials that are valid for a while',
    caller: { kind: 'app', user: 'required' },
    reply: iceServers,
    problems: ['access-refused'],
  }),
  settings: operation({
    id: 'turn.settings',
    command: 'turn show',
    method: 'GET',
    path: `${ENVIRONMENT}/turn`,
    summary: 'STUN and TURN servers of calls between people',
    caller: viewer,
    params: environmentParams,
    reply: turnSettings,
  }),
  change: operation({
    id: 'turn.change',
    changes: 'turn settings',
    command: 'turn set',
    method: 'PATCH',
    path: `${ENVIRONMENT}/turn`,
    summary: 'Change the STUN and TURN servers of calls, and who gets credentials',
    caller: maintainer,
    params: environmentParams,
    body: changes,
    reply: turnSettings,
    problems: ['malformed-filter'],
  }),
  trial: operation({
    id: 'turn.trial',
    changes: 'nothing',
    command: 'turn try',
    method: 'POST',
    path: `${ENVIRONMENT}/turn/trials`,
    summary: 'Ask each STUN and TURN server as a phone would, with credentials of now',
    caller: maintainer,
    params: environmentParams,
    reply: z.object({ items: z.array(turnTrial) }),
  }),
};
