/** The form for a provider outside: what is asked depends on what it speaks. */
import { Checkbox, JsonInput, PasswordInput, Select, TagsInput, Textarea, TextInput } from '@mantine/core';
import { type MemberEntryWay, type NewSignInWay, operations, type SignInWayDocument, WAY_KINDS, type WayKind } from '@orchard/contract';
import type { ReactNode } from 'react';
import { useEnvironment } from '../environment.js';
import { objectOf } from '../parts/json.js';
import { FormOf, type OperationForm, useOperationForm } from '../parts/operationForm.js';

export const KIND_WORDS: Record<WayKind, string> = {
  openid: 'OpenID Connect',
  oauth: 'OAuth 2.0',
  saml: 'SAML 2.0',
  directory: 'LDAP directory',
  tokens: 'Tokens of another issuer',
};

/** Every field of every kind; the form shows those of one. */
type Values = {
  way: string;
  kind: WayKind;
  title: string;
  secret: string;
  clients: string[];
  roles: string;
  issuer: string;
  clientId: string;
  scopes: string[];
  nativeClientIds: string[];
  keepTokens: boolean;
  authorizeAddress: string;
  tokenAddress: string;
  personAddress: string;
  metadata: string;
  emailProved: boolean;
  address: string;
  trust: string;
  bindDn: string;
  base: string;
  filter: string;
  groupBase: string;
  groupFilter: string;
  audience: string;
  keysAddress: string;
  /** JSON of what the form has no field for. */
  more: string;
};
/** The settings of a kind that have no field of their own, with an example. */
const MORE: Record<WayKind, { names: readonly string[]; example: object }> = {
  openid: { names: ['groupsClaim', 'endpoints'], example: { groupsClaim: 'groups' } },
  oauth: { names: ['claims', 'revokeAddress'], example: { claims: { id: 'id', email: 'mail' } } },
  saml: { names: ['attributes', 'skewS'], example: { attributes: { email: 'mail', groups: 'memberOf' }, skewS: 30 } },
  directory: { names: ['attributes'], example: { attributes: { id: 'entryUUID', email: 'mail', name: 'cn' } } },
  tokens: { names: ['claims'], example: { claims: { id: 'sub', groups: 'groups' } } },
};
const EMPTY: Values = {
  way: '',
  kind: 'openid',
  title: '',
  secret: '',
  clients: [],
  roles: '',
  issuer: '',
  clientId: '',
  scopes: ['openid', 'email', 'profile'],
  nativeClientIds: [],
  keepTokens: false,
  authorizeAddress: '',
  tokenAddress: '',
  personAddress: '',
  metadata: '',
  emailProved: false,
  address: '',
  trust: '',
  bindDn: '',
  base: '',
  filter: '(uid={user})',
  groupBase: '',
  groupFilter: '(member={dn})',
  audience: '',
  keysAddress: '',
  more: '',
};

function initialOf(way: SignInWayDocument | null): Values {
  if (!way) return EMPTY;
  const groups = way.kind === 'directory' && way.groups ? { groupBase: way.groups.base, groupFilter: way.groups.filter } : {};
  const roles = Object.entries(way.roles).map(([group, role]) => `${group} = ${role}`);
  const trust = way.kind === 'directory' ? (way.trust ?? '') : '';
  const set = Object.entries(way).filter(([name, value]) => MORE[way.kind].names.includes(name) && value !== null);
  const more = set.length > 0 ? JSON.stringify(Object.fromEntries(set), null, 2) : '';
  return { ...EMPTY, ...way, ...groups, trust, more, way: way.name, secret: '', roles: roles.join('\n') } as Values;
}

/** `group = role`, a line each. */
export function readGroupRoles(text: string): Record<string, string> {
  const lines = text.split('\n').filter((line) => line.trim());
  return Object.fromEntries(
    lines.map((line) => {
      const at = line.lastIndexOf('=');
      return [line.slice(0, at).trim(), line.slice(at + 1).trim()];
    }),
  );
}

type MemberGroups = MemberEntryWay['groups'];

export const writeMemberGroups = (groups: MemberGroups): string =>
  Object.entries(groups)
    .map(([group, roles]) => `${group} = ${roles.map(({ app, environment, role }) => `${role} of ${app}/${environment}`).join(', ')}`)
    .join('\n');

/** `group = role of app/environment, …`, a line each. What cannot be read stays as it is, and is refused by its name. */
export function readMemberGroups(text: string): MemberGroups {
  const lines = text.split('\n').filter((line) => line.trim());
  return Object.fromEntries(
    lines.map((line) => {
      const at = line.lastIndexOf('=');
      const roles = line
        .slice(at + 1)
        .split(',')
        .map((part) => {
          const [, role = part.trim(), app = '', environment = ''] = /^\s*(\S+)\s+of\s+([^/\s]+)\/(\S+)\s*$/.exec(part) ?? [];
          return { app, environment, role } as MemberGroups[string][number];
        });
      return [line.slice(0, at).trim(), roles];
    }),
  );
}

function bodyOf(values: Values, before: SignInWayDocument | null): NewSignInWay {
  const {
    name: _name,
    hasSecret: _has,
    redirectAddress: _at,
    metadataAddress: _of,
    ...kept
  } = (before ?? {}) as Partial<SignInWayDocument>;
  for (const name of MORE[values.kind].names) delete (kept as Record<string, unknown>)[name];
  const common = {
    ...kept,
    // What is no object is refused by its name.
    ...(objectOf(values.more) ?? { more: values.more }),
    title: values.title,
    clients: values.clients,
    roles: readGroupRoles(values.roles),
    ...(values.secret ? { secret: values.secret } : {}),
  };
  const pick = <Name extends keyof Values>(...names: Name[]) =>
    Object.fromEntries(names.map((name) => [name, values[name]])) as Pick<Values, Name>;
  switch (values.kind) {
    case 'openid':
      return { ...common, kind: 'openid', ...pick('issuer', 'clientId', 'scopes', 'nativeClientIds', 'keepTokens') } as NewSignInWay;
    case 'oauth':
      return {
        ...common,
        kind: 'oauth',
        ...pick('authorizeAddress', 'tokenAddress', 'personAddress', 'clientId', 'scopes', 'keepTokens'),
      } as NewSignInWay;
    case 'saml':
      return { ...common, kind: 'saml', ...pick('metadata', 'emailProved') } as NewSignInWay;
    case 'directory': {
      const groups = values.groupBase ? { name: 'cn', base: values.groupBase, filter: values.groupFilter } : null;
      return {
        ...common,
        kind: 'directory',
        ...pick('address', 'bindDn', 'base', 'filter', 'emailProved'),
        trust: values.trust || null,
        groups,
      } as NewSignInWay;
    }
    case 'tokens':
      return { ...common, kind: 'tokens', ...pick('issuer', 'audience', 'keysAddress') } as NewSignInWay;
  }
}

export function WayForm({ of, onDone }: { of: SignInWayDocument | null; onDone: () => void }) {
  const { params } = useEnvironment();
  const form = useOperationForm(operations.signInWays.put, {
    initial: initialOf(of),
    input: (values) => ({ params: { ...params, way: values.way }, body: bodyOf(values, of) as never }),
    onDone,
  });
  return (
    <WayFields form={form} of={of}>
      <Textarea
        label="Roles by group"
        description="A group of the provider and a role, a line each"
        placeholder="wardens = warden"
        autosize
        {...form.form.getInputProps('roles')}
      />
      <TagsInput label="Clients that may use it" description="None: all" {...form.form.getInputProps('clients')} />
    </WayFields>
  );
}

/** A way by which members of the team sign in to the console. */
export function MemberWayForm({ of, onDone }: { of: MemberEntryWay | null; onDone: () => void }) {
  const way = of?.way ?? null;
  const form = useOperationForm(operations.memberEntry.put, {
    initial: { ...initialOf(way), roles: writeMemberGroups(of?.groups ?? {}) },
    input: (values) => ({
      params: { way: values.way },
      body: { way: bodyOf({ ...values, roles: '' }, way) as never, groups: readMemberGroups(values.roles) as never },
    }),
    onDone,
  });
  return (
    <WayFields form={form} of={way}>
      <Textarea
        label="Roles by group"
        description="A group of the provider, and roles in environments, a line each. Without one, members are invited"
        placeholder="wardens = developer of quillfell-hiker/dev, viewer of quillfell-hiker/live"
        autosize
        {...form.form.getInputProps('roles')}
      />
    </WayFields>
  );
}

/** What every way has, and between what is its own. */
function WayFields({ form, of, children }: { form: OperationForm<Values>; of: SignInWayDocument | null; children: ReactNode }) {
  const { getInputProps, values } = form.form;
  return (
    <FormOf of={form} verb="Save">
      <Select
        label="Kind"
        data={WAY_KINDS.map((kind) => ({ value: kind, label: KIND_WORDS[kind] }))}
        allowDeselect={false}
        disabled={of !== null}
        {...getInputProps('kind')}
      />
      <TextInput label="Name" placeholder="ridge" required disabled={of !== null} {...getInputProps('way')} />
      <TextInput label="Title" description="As its button says" placeholder="Sign in at the ridge" required {...getInputProps('title')} />
      <KindFields kind={values.kind} of={of} getInputProps={getInputProps} />
      {children}
      <JsonInput
        label="Other settings"
        description={`JSON, with ${MORE[values.kind].names.join(', ')}. Empty: as usual`}
        placeholder={JSON.stringify(MORE[values.kind].example)}
        autosize
        maxRows={10}
        validationError="Must be JSON."
        {...getInputProps('more')}
      />
    </FormOf>
  );
}

type Inputs = {
  kind: WayKind;
  of: SignInWayDocument | null;
  getInputProps: (name: keyof Values, options?: { type?: 'checkbox' }) => object;
};

function KindFields({ kind, of, getInputProps }: Inputs) {
  const secret = (
    <PasswordInput
      label={kind === 'directory' ? 'Its password' : 'Secret'}
      description={of?.hasSecret ? 'Empty: the one before stays' : kind === 'directory' ? undefined : 'Where the provider gave one'}
      autoComplete="off"
      {...getInputProps('secret')}
    />
  );
  const clientId = <TextInput label="Client id" description="As the provider gave it" required {...getInputProps('clientId')} />;
  const scopes = <TagsInput label="Scopes" {...getInputProps('scopes')} />;
  const keepTokens = (
    <Checkbox
      label="Keep what the provider hands out, encrypted, for functions of the team"
      {...getInputProps('keepTokens', { type: 'checkbox' })}
    />
  );
  const emailProved = (
    <Checkbox label="It vouches for the mail addresses it sends" {...getInputProps('emailProved', { type: 'checkbox' })} />
  );
  switch (kind) {
    case 'openid':
      return (
        <>
          <TextInput label="Issuer" placeholder="https://id.ridge.example" required {...getInputProps('issuer')} />
          {clientId}
          {secret}
          {scopes}
          <TagsInput
            label="Client ids of apps that hand over ID tokens"
            description="As the provider gave them to the apps themselves"
            {...getInputProps('nativeClientIds')}
          />
          {keepTokens}
        </>
      );
    case 'oauth':
      return (
        <>
          <TextInput label="Where people sign in" required {...getInputProps('authorizeAddress')} />
          <TextInput label="Where a code is exchanged" required {...getInputProps('tokenAddress')} />
          <TextInput
            label="What says who it is"
            description="Answers a JSON object to the access token"
            required
            {...getInputProps('personAddress')}
          />
          {clientId}
          {secret}
          {scopes}
          {keepTokens}
        </>
      );
    case 'saml':
      return (
        <>
          <Textarea
            label="Metadata of the provider"
            description="XML"
            required
            autosize
            minRows={4}
            maxRows={10}
            {...getInputProps('metadata')}
          />
          {emailProved}
        </>
      );
    case 'directory':
      return (
        <>
          <TextInput label="Address" placeholder="ldaps://directory.ridge.example" required {...getInputProps('address')} />
          <TextInput label="Account that searches" placeholder="cn=reader,dc=ridge,dc=example" required {...getInputProps('bindDn')} />
          {secret}
          <TextInput label="Where people are" placeholder="ou=people,dc=ridge,dc=example" required {...getInputProps('base')} />
          <TextInput label="Filter for a user name" required {...getInputProps('filter')} />
          <TextInput label="Where groups are" description="Empty: groups are not looked at" {...getInputProps('groupBase')} />
          <TextInput label="Filter for groups" {...getInputProps('groupFilter')} />
          <Textarea
            label="Certificate of its authority"
            description="PEM, where it is not a public one"
            autosize
            maxRows={6}
            {...getInputProps('trust')}
          />
          {emailProved}
        </>
      );
    case 'tokens':
      return (
        <>
          <TextInput label="Issuer" required {...getInputProps('issuer')} />
          <TextInput label="Audience" description="As its tokens for this app name it" required {...getInputProps('audience')} />
          <TextInput label="Its keys" placeholder="https://id.ridge.example/jwks.json" required {...getInputProps('keysAddress')} />
        </>
      );
  }
}
