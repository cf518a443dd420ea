/** Settings for messages: prices by country, words that end and begin messages, codes, when unseen devices are retired. */
import { Button, Group, NumberInput, Stack, TagsInput, Textarea, TextInput } from '@mantine/core';
import { type Messaging, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Loaded, Trouble } from '../parts/basics.js';
import { usePlace } from '../place.js';

export function MessagingSettings() {
  const { params } = usePlace();
  const settings = useCall(operations.sms.settings, { params });
  return <Loaded of={settings}>{(kept) => <SettingsForm kept={kept} />}</Loaded>;
}

/** Prices as lines: `NO 0.061`. */
const linesOf = (prices: Messaging['prices']): string =>
  Object.entries(prices)
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([country, price]) => `${country} ${price}`)
    .join('\n');

/** @returns the prices, or the first line that is none */
function pricesOf(lines: string): Messaging['prices'] | string {
  const prices: Messaging['prices'] = {};
  for (const line of lines.split('\n').filter((text) => text.trim())) {
    const [, country, price] = /^\s*([A-Za-z]{2})\s+(\d+(?:\.\d+)?)\s*$/.exec(line) ?? [];
    if (!country || !price) return line;
    prices[country.toUpperCase()] = Number(price);
  }
  return prices;
}

function SettingsForm({ kept }: { kept: Messaging }) {
  const { params } = usePlace();
  const [lines, setLines] = useState(linesOf(kept.prices));
  const [currency, setCurrency] = useState(kept.currency ?? '');
  const [words, setWords] = useState(kept.optWords);
  const [codeText, setCodeText] = useState(kept.codeText);
  const [days, setDays] = useState<number | string>(kept.retireAfterDays);
  const patch = useChange(operations.sms.patchSettings, ['messaging.', 'notifications.']);
  const prices = pricesOf(lines);
  const wrongLine = typeof prices === 'string' ? prices : null;
  function submit(): void {
    if (typeof prices === 'string') return;
    const body = { prices, optWords: words, codeText, retireAfterDays: Number(days), ...(currency ? { currency } : {}) };
    patch.mutate({ params, body });
  }
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      <Stack maw={620} gap="md">
        <Group align="flex-start" grow>
          <Textarea
            label="Price of an SMS segment"
            description="By country, one a line, such as NO 0.061"
            autosize
            minRows={4}
            classNames={{ input: 'mono' }}
            value={lines}
            onChange={({ currentTarget }) => setLines(currentTarget.value)}
            error={wrongLine === null ? null : `“${wrongLine}” is not a country and a price, such as NO 0.061.`}
          />
          <TextInput
            label="Currency"
            description="ISO 4217"
            placeholder="EUR"
            maxLength={3}
            value={currency}
            onChange={({ currentTarget }) => setCurrency(currentTarget.value.toUpperCase())}
          />
        </Group>
        <TagsInput
          label="Answers that end messages to a number"
          description="The first word of an answer counts, whatever its case and accents"
          value={words.out}
          onChange={(out) => setWords({ ...words, out })}
        />
        <TagsInput label="Answers that begin them again" value={words.in} onChange={(some) => setWords({ ...words, in: some })} />
        <TextInput
          label="Message of a one-time code"
          description="{code} is the code"
          value={codeText}
          onChange={({ currentTarget }) => setCodeText(currentTarget.value)}
        />
        <NumberInput
          label="A device not seen for so many days is retired"
          description="0: never"
          min={0}
          max={3650}
          value={days}
          onChange={setDays}
        />
        <Trouble error={patch.error} />
        <Group>
          <Button type="submit" loading={patch.isPending} disabled={wrongLine !== null}>
            Save
          </Button>
          {patch.isSuccess && <span role="status">Kept.</span>}
        </Group>
      </Stack>
    </form>
  );
}
