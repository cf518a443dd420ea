/** Settings for messages: prices by country, opt-out and opt-in words, codes, when unseen devices are retired. */
import { Group, NumberInput, Stack, TagsInput, Textarea, TextInput } from '@mantine/core';
import { type Messaging, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall } from '../api.js';
import { Loaded } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { useEnvironment } from '../environment.js';
import { linesOf, pricesOf } from './prices.js';

export function MessagingSettings() {
  const { params } = useEnvironment();
  const settings = useCall(operations.sms.settings, { params });
  return <Loaded of={settings}>{(saved) => <SettingsForm saved={saved} />}</Loaded>;
}

function SettingsForm({ saved }: { saved: Messaging }) {
  const { params } = useEnvironment();
  const [isSaved, setIsSaved] = useState(false);
  const patch = useOperationForm(operations.sms.patchSettings, {
    initial: {
      lines: linesOf(saved.prices),
      currency: saved.currency ?? '',
      optWords: saved.optWords,
      codeText: saved.codeText,
      retireAfterDays: saved.retireAfterDays as number | string,
    },
    input: ({ lines, currency, optWords, codeText, retireAfterDays }) => ({
      params,
      body: {
        prices: pricesOf(lines) as Messaging['prices'],
        optWords,
        codeText,
        retireAfterDays: Number(retireAfterDays),
        ...(currency ? { currency: currency.toUpperCase() } : {}),
      },
    }),
    onDone: () => setIsSaved(true),
    stale: [operations.sms, operations.notifications],
  });
  const { getInputProps, values } = patch.form;
  const wrongLine = pricesOf(values.lines);
  return (
    <Stack maw={620}>
      <FormOf of={patch} verb="Save" disabled={typeof wrongLine === 'string'}>
        <Group align="flex-start" grow>
          <Textarea
            label="Price of an SMS segment"
            description="By country, one per line, such as NO 0.061"
            autosize
            minRows={4}
            classNames={{ input: 'mono' }}
            {...getInputProps('lines')}
            error={typeof wrongLine === 'string' ? `“${wrongLine}” must be a country and a price, such as NO 0.061.` : null}
          />
          <TextInput label="Currency" description="ISO 4217" placeholder="EUR" maxLength={3} {...getInputProps('currency')} />
        </Group>
        <TagsInput
          label="Replies that opt a number out"
          description="The first word of a reply counts, ignoring case and accents"
          {...getInputProps('optWords.out')}
        />
        <TagsInput label="Replies that opt it in again" {...getInputProps('optWords.in')} />
        <TextInput label="Message of a one-time code" description="{code} is the code" {...getInputProps('codeText')} />
        <NumberInput
          label="Retire devices not seen for this many days"
          description="0: never"
          min={0}
          max={3650}
          {...getInputProps('retireAfterDays')}
        />
        {isSaved && <span role="status">Saved.</span>}
      </FormOf>
    </Stack>
  );
}
