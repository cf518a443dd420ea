/** What the console says of members, tokens and browsers. */
import type { TeamMember } from '@orchard/contract';
import { describe, expect, it } from 'vitest';
import { stateOf } from '../src/parts/tokenState.js';
import { isAway, isBare, roleIn } from '../src/parts/access.js';
import { agentWords } from '../src/parts/format.js';
import { passkeyObstacle } from '../src/parts/passkey.js';
import { roleOf } from '../src/parts/role.js';

const NOW = Date.parse('2026-07-14T06:00:00.000Z');
const daysAgo = (days: number) => new Date(NOW - days * 86_400_000).toISOString();

describe('a member', () => {
  it.each([
    ['here today', daysAgo(400), daysAgo(0), false],
    ['here 89 days ago', daysAgo(400), daysAgo(89), false],
    ['here 91 days ago', daysAgo(400), daysAgo(91), true],
    ['never seen since joining 91 days ago', daysAgo(91), null, true],
    ['joined yesterday and not seen since', daysAgo(1), null, false],
    ['invited long ago', null, null, false],
  ])('%s', (_, joinedAt, lastSeenAt, away) => expect(isAway({ joinedAt, lastSeenAt }, NOW)).toBe(away));

  it.each([
    [true, daysAgo(1), false],
    [false, daysAgo(1), true],
    [null, daysAgo(1), false],
    [false, null, false],
  ])('with the second factor %s, joined %s', (secondFactor, joinedAt, bare) => expect(isBare({ secondFactor, joinedAt })).toBe(bare));

  it('has the role that was given, and an owner of the installation every one', () => {
    const roles = [{ app: 'quillfell-hiker', environment: 'dev', role: 'developer' as const }];
    const member = { owner: false, roles } as TeamMember;
    expect(roleIn(member, 'quillfell-hiker', 'dev')).toBe('developer');
    expect(roleIn(member, 'quillfell-hiker', 'live')).toBeUndefined();
    expect(roleIn({ ...member, owner: true, roles: [] }, 'quillfell-hiker', 'live')).toBe('owner');
  });
});

describe('a token', () => {
  it.each([
    [{ revokedAt: null, expiresAt: daysAgo(-1) }, 'valid'],
    [{ revokedAt: null, expiresAt: daysAgo(1) }, 'expired'],
    [{ revokedAt: daysAgo(1), expiresAt: daysAgo(-1) }, 'revoked'],
    [{ revokedAt: daysAgo(9), expiresAt: daysAgo(1) }, 'revoked'],
  ])('%j is %s', (token, state) => expect(stateOf(token, NOW)).toBe(state));

  it('has its role in one environment, or in all of them', () => {
    expect(roleOf({ app: 'quillfell-hiker', environment: 'dev', role: 'viewer' })).toEqual({
      app: 'quillfell-hiker',
      environment: 'dev',
      role: 'viewer',
    });
    expect(roleOf({ app: 'quillfell-hiker', environment: '', role: 'viewer' })).toEqual({ app: 'quillfell-hiker', role: 'viewer' });
  });
});

describe('a browser', () => {
  it.each([
    ['Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0', 'Firefox 140 on Linux'],
    ['Mozilla/5.0 (Windows NT 10.0; Win64; x64) Chrome/141.0.0.0 Safari/537.36', 'Chrome 141 on Windows'],
    ['Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) Version/19.1 Safari/605.1.15', 'Safari 19 on Mac OS X'],
    ['Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) Version/19.0 Mobile/15E148 Safari/604.1', 'Safari 19 on iPhone'],
    ['Mozilla/5.0 (Linux; Android 16) Chrome/141.0.0.0 Mobile Safari/537.36', 'Chrome 141 on Android'],
    ['orchard/0.1.0 node', 'orchard/0.1.0 node'],
    ['x'.repeat(200), 'x'.repeat(60)],
  ])('%s', (agent, words) => expect(agentWords(agent)).toBe(words));

  it.each([
    ['127.0.0.1', '7450', 'http:', 'Passkeys need a host name. Open the console at http://localhost:7450.'],
    ['[::1]', '', 'http:', 'Passkeys need a host name. Open the console at http://localhost.'],
    ['orchard.quillfell.example', '', 'https:', 'This browser has no passkeys here. They need https, or localhost.'],
  ])('without passkeys at %s says why', (hostname, port, protocol, words) => {
    expect(passkeyObstacle({ hostname, port, protocol } as Location)).toBe(words);
  });
});
