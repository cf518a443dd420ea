import { describe, expect, it } from 'vitest';
import {
  addressOf,
  allOperations,
  buildOpenApi,
  createHttpClient,
  libraryCall,
  operations,
  PROBLEMS,
  Problem,
  standingWords,
} from '../src/index.js';

const answering = (status: number, body: string) =>
  createHttpClient({ address: 'http://service.example', fetch: async () => new Response(body || null, { status }) });

describe('operations', () => {
  it('have each their own id, and their own method and path', () => {
    expect(new Set(allOperations.map(({ id }) => id)).size).toBe(allOperations.length);
    expect(new Set(allOperations.map(({ method, path }) => `${method} ${path}`)).size).toBe(allOperations.length);
  });

  it('name exactly the parameters their path has', () => {
    for (const { path, params } of allOperations)
      expect(Object.keys(params.shape).sort()).toEqual([...path.matchAll(/\{(\w+)(?:\.\.\.)?\}/g)].map(([, name]) => name).sort());
  });

  it('say what they change, where a member changes something', () => {
    const silent = allOperations.filter(
      ({ caller, method, changes }) => caller.kind === 'member' && !['GET', 'HEAD'].includes(method) && changes === undefined,
    );
    expect(silent.map(({ id }) => id)).toEqual([]);
  });

  it('are open to nobody but for signing in, joining, and one-time addresses', () => {
    const open = allOperations.filter(({ caller }) => caller.kind === 'anyone').map(({ id }) => id);
    expect(open.sort()).toEqual([
      'accounts.confirm',
      // By the ticket that an owner made.
      ...['announce', 'changes', 'content', 'files', 'finish', 'giveUp', 'load', 'missing', 'state', 'writeFile'].map(
        (name) => `arrivals.${name}`,
      ),
      'broadcasts.ingest',
      'broadcasts.ingestByPut',
      'broadcasts.piece',
      'broadcasts.watched',
      'digests.confirm',
      'digests.end',
      'files.public',
      'identity.addAccount',
      ...[
        'authorize',
        'introspect',
        'keys',
        'metadata',
        'picture',
        'relatedOrigins',
        'revoke',
        'signIn',
        'token',
        'tryWay',
        'userInfo',
      ].map((name) => `identity.${name}`),
      ...['wayBack', 'wayMetadata', 'wayPosted', 'wayThere'].map((name) => `identity.${name}`),
      'incidents.acknowledgeByLink',
      ...['atDirectory', 'back', 'finish', 'metadata', 'offered', 'posted', 'there'].map((name) => `memberEntry.${name}`),
      'memberSessions.challenge',
      'memberSessions.start',
      'memberSessions.startWithPasskey',
      'members.accept',
      'members.confirmEmail',
      'members.forgotPassword',
      'members.newPassword',
      'setup.create',
      'setup.read',
      'shareLinks.open',
      'shareLinks.unlock',
      'uploadAddresses.post',
      'uploadAddresses.put',
      'uploads.options',
      'users.newPassword',
    ]);
  });

  it('fill parameters into their address, encoded', () => {
    expect(
      addressOf(operations.records.read, {
        params: { collection: 'huts', id: 'a/b ü' },
        query: { fields: 'name,bunks', nothing: undefined },
      }),
    ).toBe('/app/v1/data/huts/a%2Fb%20%C3%BC?fields=name%2Cbunks');
  });

  it('are described with every problem they can answer', () => {
    const { paths } = buildOpenApi(allOperations, 'http://service.example') as {
      paths: Record<string, Record<string, { responses: Record<string, { description: string }> }>>;
    };
    const responses = paths['/app/v1/notifications']?.post?.responses ?? {};
    expect(responses['403']?.description).toContain('`scope-missing`');
    expect(responses['503']?.description).toContain('`database-unavailable`');
    for (const path of Object.values(paths))
      for (const operation of Object.values(path))
        expect(Object.keys(operation.responses).some((status) => status.startsWith('2'))).toBe(true);
  });
});

it('the OpenAPI document refers only to what it holds', () => {
  const document = buildOpenApi(allOperations, 'http://service.example');
  const text = JSON.stringify(document);
  const references = new Set([...text.matchAll(/"\$ref":"#\/([^"]+)"/g)].map(([, path]) => path as string));
  const follow = (path: string) =>
    path.split('/').reduce<unknown>((at, key) => (at as Record<string, unknown> | undefined)?.[key], document);
  expect([...references].filter((path) => follow(path) === undefined)).toEqual([]);
  expect(references).toContain('components/schemas/Problem');
  expect(references).toContain('components/schemas/RecordPart');
  expect(text).not.toContain('$defs');
});

it('the OpenAPI document says under which licence it stands, and offers no alternative that matches everything', () => {
  const document = buildOpenApi(allOperations, 'http://service.example');
  expect(document.info).toMatchObject({ license: { name: expect.any(String) } });
  expect(JSON.stringify(document)).not.toMatch(/"(anyOf|oneOf)":\[(?:[^\]]*,)?\{\}/);
});

describe('a call in the client library', () => {
  const params = { collection: 'huts', id: "o'hara" };
  it.each([
    [libraryCall(operations.records.read, { params }), `await orchard.collection("huts").read("o'hara");`],
    [
      libraryCall(operations.records.list, { params: { collection: 'huts' }, query: { filter: "name = 'x'" } }),
      `await orchard.collection("huts").list({"filter":"name = 'x'"});`,
    ],
    [libraryCall(operations.users.readMe, {}), 'await orchard.me();'],
    [libraryCall(operations.apps.list, {}), undefined],
  ])('%s', (made, wanted) => expect(made).toBe(wanted));
});

describe('problems', () => {
  it('come through the wire whole', async () => {
    const sent = new Problem('version-conflict', 'It is at version 4 now.', { currentVersion: 4 });
    const received = await answering(412, JSON.stringify(sent.toDocument('request-1')))
      .call(operations.apps.list, {})
      .catch((error: Problem) => error);
    expect(received).toMatchObject({
      problem: 'version-conflict',
      status: 412,
      detail: 'It is at version 4 now.',
      request: 'request-1',
      extras: { currentVersion: 4 },
    });
  });

  it('have a title, a status and a cure each', () => {
    for (const { status, title, cure } of Object.values(PROBLEMS)) {
      expect(status).toBeGreaterThanOrEqual(400);
      expect(title).toMatch(/^[A-Z]/);
      expect(cure).toMatch(/\.$/);
    }
  });

  it('tell what somebody else answered in between', async () => {
    await expect(answering(502, '<html>bad gateway</html>').call(operations.apps.list, {})).rejects.toMatchObject({
      problem: 'unexpected',
      detail: expect.stringContaining('502'),
    });
  });
});

it.each([
  [{ daysBefore: 1, at: '18:00' }, '1 day before arrives, at 18:00 where each person is'],
  [{ daysBefore: -2, at: '09:00', zone: 'Europe/Oslo' }, '2 days after arrives, at 09:00 in Europe/Oslo'],
  [{ daysBefore: 0, at: '06:00' }, 'when arrives is, at 06:00 where each person is'],
  [{ minutesBefore: 90 }, '90 minutes before arrives'],
])('says when a standing notification is sent: %j', (when, words) => {
  expect(standingWords({ field: 'arrives', ...when })).toBe(words);
});
