/** The mails about accounts: their words in each language, and those `dev` shows instead of sending. */
import { Badge, Button, Group, NativeSelect, Stack, Text, Textarea, TextInput, Title } from '@mantine/core';
import { type AccountMailDocument, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Moment, Trouble } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';

const own = operations.accounts;

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

export function AccountMails() {
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
          {way === 'gateway' ? 'The mail server has accepted it.' : 'There is no gateway for mail; it is shown under “Outbox”.'}
        </Text>
      )}
    </FormOf>
  );
}

export function MailOutbox() {
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
