/** How people get into the apps: who may have an account, ways in without a password, and the mails about it. */
import {
  Badge,
  Button,
  Group,
  NativeSelect,
  NumberInput,
  Stack,
  Switch,
  Tabs,
  TagsInput,
  Text,
  Textarea,
  TextInput,
  Title,
} from '@mantine/core';
import { type AccountMailDocument, type EntryRules, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';
import { SignInOutcomes } from '../people/signInOutcomes.js';
import { SignInWays } from '../people/signInWays.js';
import { UserFields } from '../people/userFields.js';

const own = operations.accounts;

export function EntryPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'rules');
  return (
    <>
      <PageHead title="Sign-in" hint="Who may have an account, how people get in, and the mails about it">
        <FromCode calls={[coded(own.rules, { params }), coded(own.mails, { params }), coded(own.outbox, { params })]} />
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List mb="md">
          <Tabs.Tab value="rules">Who gets in</Tabs.Tab>
          <Tabs.Tab value="outcomes">How it went</Tabs.Tab>
          <Tabs.Tab value="ways">Providers outside</Tabs.Tab>
          <Tabs.Tab value="fields">Fields of users</Tabs.Tab>
          <Tabs.Tab value="mails">Mails</Tabs.Tab>
          <Tabs.Tab value="outbox">Not sent, but shown</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="rules">
          <Rules />
        </Tabs.Panel>
        <Tabs.Panel value="outcomes">
          <SignInOutcomes />
        </Tabs.Panel>
        <Tabs.Panel value="ways">
          <SignInWays />
        </Tabs.Panel>
        <Tabs.Panel value="fields">
          <UserFields />
        </Tabs.Panel>
        <Tabs.Panel value="mails">
          <Mails />
        </Tabs.Panel>
        <Tabs.Panel value="outbox">
          <Outbox />
        </Tabs.Panel>
      </Tabs>
    </>
  );
}

function Rules() {
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
  const { mostSessions, terms, linkAddress, leastVersions, redirects, ...rest } = of;
  const form = useOperationForm(own.changeRules, {
    initial: {
      ...rest,
      mostSessions: mostSessions ?? ('' as number | ''),
      terms: terms ?? '',
      linkAddress: linkAddress ?? '',
      leastVersions: writeVersions(leastVersions),
      redirects: Object.entries(redirects)
        .flatMap(([client, addresses]) => addresses.map((address) => `${client} ${address}`))
        .join('\n'),
    },
    input: ({ mostSessions: most, terms: version, linkAddress: address, leastVersions: versions, redirects: returns, ...values }) => ({
      params,
      body: {
        ...values,
        mostSessions: orNull(most),
        terms: orNull(version),
        linkAddress: orNull(address),
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
          label="Mail addresses are confirmed"
          data={[
            { value: 'never', label: 'Not by us' },
            { value: 'asked', label: 'By a mail after signing up' },
            { value: 'first', label: 'Before a password signs in' },
          ]}
          {...getInputProps('confirm')}
        />
        <Title order={3}>Without a password</Title>
        <Group gap="xl">
          {toggle('codeByMail', 'Code by mail')}
          {toggle('codeBySms', 'Code by SMS')}
          {toggle('linkByMail', 'Address by mail')}
        </Group>
        <TextInput
          label="Where addresses in mails lead"
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

const WORDS: Record<AccountMailDocument['mail'], string> = {
  'confirm-address': 'Confirm your address',
  'address-taken': 'Signed up again with an address',
  'new-password': 'A new password',
  'change-address': 'Confirm a new address',
  'address-changed': 'The address has changed',
  invitation: 'Invitation',
  'sign-in-code': 'Code to sign in',
  'sign-in-link': 'Address that signs in',
  'new-sign-in': 'Sign-in from a new place',
  'account-deleted': 'Account deleted',
};

function Mails() {
  const { params } = useEnvironment();
  const [chosen, setChosen] = useAddressState('mail', 'confirm-address');
  const [locale, setLocale] = useAddressState('locale', 'en');
  const mails = useCall(own.mails, { params });
  return (
    <Loaded of={mails}>
      {({ items }) => {
        const mail = items.find((one) => one.mail === chosen) ?? (items[0] as AccountMailDocument);
        const locales = [...new Set([...Object.keys(mail.ours), ...Object.keys(mail.own), locale])];
        return (
          <Stack>
            <Group align="end">
              <NativeSelect
                label="Mail"
                value={mail.mail}
                onChange={({ currentTarget }) => setChosen(currentTarget.value)}
                data={items.map(({ mail: name, own: texts }) => ({
                  value: name,
                  label: `${WORDS[name]}${Object.keys(texts).length > 0 ? ' (own words)' : ''}`,
                }))}
              />
              <NativeSelect
                label="Language"
                value={locale}
                onChange={({ currentTarget }) => setLocale(currentTarget.value)}
                data={locales.map((value) => ({ value, label: languageWords(value) }))}
              />
              {mail.own[locale] && <Badge variant="outline">the team’s own words</Badge>}
            </Group>
            <MailForm key={`${mail.mail} ${locale} ${JSON.stringify(mail.own[locale])}`} of={mail} locale={locale} />
          </Stack>
        );
      }}
    </Loaded>
  );
}

const LANGUAGES = new Intl.DisplayNames(['en'], { type: 'language' });
const languageWords = (locale: string): string => `${LANGUAGES.of(locale) ?? locale} (${locale})`;

function MailForm({ of: { mail, own: texts, ours, variables }, locale }: { of: AccountMailDocument; locale: string }) {
  const { params, details } = useEnvironment();
  const at = { ...params, mail, locale };
  const initial = texts[locale] ?? ours[locale] ?? (ours.en as { subject: string; text: string });
  const form = useOperationForm(own.writeMail, { initial, input: (body) => ({ params: at, body }) });
  const reset = useChange(own.resetMail, [operations.accounts]);
  const { values, getInputProps } = form.form;
  const preview = useCall(own.previewMail, { params: { ...params, mail }, body: { locale, ...values } });
  return (
    <Group align="flex-start" grow>
      <Stack>
        <FormOf of={form} verb="Save in the team’s words">
          <TextInput label="Subject" dir="auto" {...getInputProps('subject')} />
          <Textarea
            label="Text"
            description={`Variables: ${variables.map((name) => `{${name}}`).join(' ')}`}
            autosize
            minRows={8}
            dir="auto"
            {...getInputProps('text')}
          />
        </FormOf>
        <Trouble error={reset.error} />
        {texts[locale] && (
          <Button variant="default" loading={reset.isPending} onClick={() => reset.mutate({ params: at })}>
            Take back the team’s words
          </Button>
        )}
        {details?.role !== 'viewer' && <Test mail={mail} locale={locale} />}
      </Stack>
      <section className="panel" aria-label="Preview">
        <Title order={3} mb={4}>
          With made-up values
        </Title>
        <Trouble error={preview.error} />
        {preview.data && (
          <div dir="auto">
            <Text fw={600} mb="xs">
              {preview.data.subject}
            </Text>
            <Text style={{ whiteSpace: 'pre-wrap' }}>{preview.data.text}</Text>
          </div>
        )}
      </section>
    </Group>
  );
}

function Test({ mail, locale }: { mail: AccountMailDocument['mail']; locale: string }) {
  const { params } = useEnvironment();
  const [way, setWay] = useState<string | null>(null);
  const form = useOperationForm(own.testMail, {
    initial: { to: '' },
    input: ({ to }) => ({ params: { ...params, mail }, body: { to, locale } }),
    onDone: (reply) => setWay(reply.way),
    stale: [own.outbox],
  });
  return (
    <FormOf of={form} verb="Send a test">
      <TextInput
        label="Try it"
        description="Goes to this address, with made-up values"
        placeholder="you@quillfell.example"
        {...form.form.getInputProps('to')}
      />
      {way && (
        <Text size="sm">
          {way === 'gateway'
            ? 'The mail server has accepted it.'
            : 'There is no gateway for mail; it is shown under “Not sent, but shown”.'}
        </Text>
      )}
    </FormOf>
  );
}

function Outbox() {
  const { params } = useEnvironment();
  const [open, setOpen] = useState<string | null>(null);
  const outbox = useCall(own.outbox, { params });
  return (
    <Loaded of={outbox}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty title="No mail is waiting here">
            <Text>
              While `dev` has no gateway for mail, each mail about an account is shown here instead of being sent, for seven days.
            </Text>
          </Empty>
        ) : (
          <div className="listing" style={{ borderTop: 0 }}>
            <table>
              <TableHead columns={['Time', 'To', 'Mail', 'Subject']} />
              <tbody>
                {items.map(({ id, at, to, mail, subject, text }) => (
                  <tr key={id}>
                    <td>
                      <Moment at={at} />
                    </td>
                    <td>{to}</td>
                    <td>{WORDS[mail]}</td>
                    <td>
                      <Button
                        variant="subtle"
                        size="compact-sm"
                        aria-expanded={open === id}
                        onClick={() => setOpen(open === id ? null : id)}
                      >
                        {subject}
                      </Button>
                      {open === id && <Code>{text}</Code>}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )
      }
    </Loaded>
  );
}
