/** Who may have an account, and what people must bring. */
import { NativeSelect, NumberInput, Stack, Switch, TagsInput, Text, Textarea, TextInput, Title, Group } from '@mantine/core';
import { type EntryRules, operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.accounts;

export function EntryRulesTab() {
  const { params } = useEnvironment();
  const rules = useCall(own.rules, { params });
  return (
    <Loaded of={rules}>
      {({ mailMissing, ...current }) => (
        <Stack>
          {mailMissing && (
            <Text className="care" role="alert">
              {mailMissing}
            </Text>
          )}
          <RulesForm key={JSON.stringify(current)} of={current} />
        </Stack>
      )}
    </Loaded>
  );
}

/** Empty fields of the form are null in the rules. */
const orNull = <T,>(value: T | ''): T | null => (value === '' ? null : value);
/** `hiker-ios 2.6.0`, one a line. */
const writeVersions = (versions: EntryRules['leastVersions']): string =>
  Object.entries(versions)
    .map((pair) => pair.join(' '))
    .join('\n');
const readVersions = (text: string): EntryRules['leastVersions'] =>
  Object.fromEntries(
    text
      .split('\n')
      .filter((line) => line.trim())
      .map((line) => line.trim().split(/\s+/, 2) as [string, string]),
  );

/** `hiker-ios quillfell://signed-in`, one a line. */
function readRedirects(text: string): EntryRules['redirects'] {
  const redirects: EntryRules['redirects'] = {};
  for (const line of text.split('\n')) {
    const [client, address] = line.trim().split(/\s+/, 2);
    if (client && address) redirects[client] = [...(redirects[client] ?? []), address];
  }
  return redirects;
}

function RulesForm({ of }: { of: EntryRules }) {
  const { params, details } = useEnvironment();
  const { mostSessions, terms, linkAddress, leastVersions, redirects, passkeyDomain, ...rest } = of;
  const form = useOperationForm(own.changeRules, {
    initial: {
      ...rest,
      mostSessions: mostSessions ?? ('' as number | ''),
      terms: terms ?? '',
      linkAddress: linkAddress ?? '',
      passkeyDomain: passkeyDomain ?? '',
      leastVersions: writeVersions(leastVersions),
      redirects: Object.entries(redirects)
        .flatMap(([client, addresses]) => addresses.map((address) => `${client} ${address}`))
        .join('\n'),
    },
    input: ({
      mostSessions: most,
      terms: version,
      passkeyDomain: domain,
      linkAddress: address,
      leastVersions: versions,
      redirects: returns,
      ...values
    }) => ({
      params,
      body: {
        ...values,
        mostSessions: orNull(most),
        terms: orNull(version),
        linkAddress: orNull(address),
        passkeyDomain: orNull(domain),
        leastVersions: readVersions(versions),
        redirects: readRedirects(returns),
      },
    }),
  });
  const { getInputProps, values } = form.form;
  const mayChange = details?.role === 'maintainer' || details?.role === 'owner';
  const toggle = (name: keyof EntryRules, label: string, description?: string) => (
    <Switch label={label} description={description} {...getInputProps(name, { type: 'checkbox' })} />
  );
  return (
    <fieldset disabled={!mayChange} style={{ border: 0, padding: 0, margin: 0, maxWidth: '46rem' }}>
      <FormOf of={form} verb="Save">
        <Group grow align="flex-start">
          <NativeSelect
            label="Who may sign up"
            data={[
              { value: 'open', label: 'Anybody' },
              { value: 'domains', label: 'Mail addresses of some domains' },
              { value: 'invited', label: 'Whoever is invited' },
              { value: 'closed', label: 'Nobody' },
            ]}
            {...getInputProps('signUp')}
          />
          {values.signUp === 'domains' && <TagsInput label="Domains" placeholder="quillfell.example" {...getInputProps('domains')} />}
        </Group>
        {toggle('guests', 'Guests', 'People begin without an account, and keep everything when they make one.')}
        <NativeSelect
          label="Confirm mail addresses"
          data={[
            { value: 'never', label: 'Never' },
            { value: 'asked', label: 'By a mail after signing up' },
            { value: 'first', label: 'Before a password signs in' },
          ]}
          {...getInputProps('confirm')}
        />
        <Title order={3}>Without a password</Title>
        <Group gap="xl">
          {toggle('codeByMail', 'Code by mail')}
          {toggle('codeBySms', 'Code by SMS')}
          {toggle('linkByMail', 'Link by mail')}
        </Group>
        <TextInput
          label="Where links in mails lead"
          description="The app’s own scheme or https, with {token} and, if wanted, {kind}. Empty: pages of this service."
          placeholder="quillfell://account/{kind}?token={token}"
          classNames={{ input: 'mono' }}
          {...getInputProps('linkAddress')}
        />
        <Textarea
          label="Where the sign-in page returns to"
          description="A client and an address on each line. An app opens the page of this environment and gets a code back (OpenID Connect)."
          placeholder="hiker-ios quillfell://signed-in"
          autosize
          classNames={{ input: 'mono' }}
          {...getInputProps('redirects')}
        />
        <Title order={3}>Passkeys</Title>
        <Group grow align="flex-start">
          <TextInput
            label="Domain"
            description="The app’s own, where it has one. Empty: the host of the sign-in page."
            placeholder="quillfell.example"
            {...getInputProps('passkeyDomain')}
          />
          <TagsInput
            label="Pages and apps beside it"
            description="The domain lists the pages at /.well-known/webauthn"
            placeholder="https://huts.quillfell.example"
            {...getInputProps('passkeyOrigins')}
          />
        </Group>
        <Title order={3}>Passwords and guessing</Title>
        <Group grow align="flex-start">
          <NumberInput
            label="Least characters"
            description="Of each new password. Those there are stay."
            min={8}
            max={64}
            {...getInputProps('leastPassword')}
          />
          <NumberInput
            label="Free guesses"
            description="So many sign-ins may fail at one address before the next one waits."
            min={3}
            max={50}
            {...getInputProps('freeGuesses')}
          />
          <NumberInput
            label="Longest wait, in minutes"
            description="Each wait is twice as long as the one before."
            min={1}
            max={60}
            {...getInputProps('longestWaitMin')}
          />
        </Group>
        {toggle('commonPasswords', 'Accept common passwords', 'Those that stand on lists of the most used ones.')}
        <Title order={3}>While signed in</Title>
        <Group grow align="flex-start">
          <NumberInput
            label="Sessions at once"
            description="A further one ends the oldest. Empty: any number."
            min={1}
            max={100}
            {...getInputProps('mostSessions')}
          />
          <TextInput label="Version of the terms" description="A sign-up must accept it. Empty: none." {...getInputProps('terms')} />
        </Group>
        <Textarea
          label="Oldest versions of apps"
          description="A client and a version on each line"
          placeholder="hiker-ios 2.6.0"
          autosize
          classNames={{ input: 'mono' }}
          {...getInputProps('leastVersions')}
        />
        <NumberInput
          label="Days of grace"
          description="So long a deleted account comes back when its owner signs in. 0: it is gone at once."
          min={0}
          max={90}
          {...getInputProps('graceDays')}
        />
        {toggle('tellNewSignIn', 'Tell people by mail of a sign-in from a new place')}
        {toggle('tellDeleted', 'Tell people by mail that their account is deleted')}
      </FormOf>
    </fieldset>
  );
}
