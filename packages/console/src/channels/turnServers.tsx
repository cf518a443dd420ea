/** STUN and TURN servers of calls between people: where they are, who gets credentials, and whether they work. */
import { Button, Group, NumberInput, PasswordInput, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { operations, type TurnSettings, type TurnTrial } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Loaded, Trouble } from '../parts/basics.js';

const own = operations.turn;

export function TurnServers() {
  const { params } = useEnvironment();
  return <Loaded of={useCall(own.settings, { params })}>{(settings) => <Form settings={settings} />}</Loaded>;
}

function Form({ settings }: { settings: TurnSettings }) {
  const { params } = useEnvironment();
  const [addresses, setAddresses] = useState(settings.addresses.join('\n'));
  const [secret, setSecret] = useState('');
  const [minutes, setMinutes] = useState<string | number>(settings.minutes);
  const [who, setWho] = useState(settings.who);
  const change = useChange(own.change);
  const trial = useChange(own.trial, []);
  const body = {
    addresses: addresses.split(/\s+/).filter(Boolean),
    minutes: Number(minutes),
    who,
    ...(secret === '' ? {} : { secret }),
  };
  const save = () =>
    change.mutate(
      { params, body },
      {
        onSuccess: () => {
          setSecret('');
          trial.mutate({ params });
        },
      },
    );
  return (
    <Stack gap="sm">
      <Text size="sm">
        Browsers and phones agree on a call over a channel. Where they cannot reach each other, a TURN server of yours relays, such as
        coturn with <code>use-auth-secret</code>.
      </Text>
      <Code>{'new RTCPeerConnection(await orchard.iceServers())'}</Code>
      <Textarea
        label="Addresses of servers"
        description="One a line"
        placeholder={'turn:turn.quillfell.example:3478\nturns:turn.quillfell.example:5349'}
        autosize
        minRows={2}
        value={addresses}
        onChange={({ currentTarget }) => setAddresses(currentTarget.value)}
        classNames={{ input: 'mono' }}
      />
      <PasswordInput
        label="Secret shared with them"
        placeholder={settings.hasSecret ? 'One is stored; it is never shown' : 'static-auth-secret of coturn'}
        autoComplete="off"
        value={secret}
        onChange={({ currentTarget }) => setSecret(currentTarget.value)}
      />
      <NumberInput label="Minutes that credentials are valid" min={1} max={1440} value={minutes} onChange={setMinutes} />
      <TextInput
        label="Who gets credentials"
        value={who}
        onChange={({ currentTarget }) => setWho(currentTarget.value)}
        classNames={{ input: 'mono' }}
      />
      <Trouble error={change.error ?? trial.error} />
      <Group>
        <Button loading={change.isPending} onClick={save}>
          Save and try
        </Button>
        <Button variant="default" loading={trial.isPending} onClick={() => trial.mutate({ params })}>
          Try
        </Button>
      </Group>
      {trial.data && <Trials of={trial.data.items} />}
      <Text size="xs" c="dimmed">
        Only signed-in users get credentials: each holds the id of its user. Without a server, browsers of one network still reach each
        other.
      </Text>
    </Stack>
  );
}

function Trials({ of }: { of: TurnTrial[] }) {
  if (of.length === 0) return <Text size="sm">There is no server to try.</Text>;
  return (
    <section className="listing" aria-label="Trials" aria-live="polite">
      <table>
        <thead>
          <tr>
            <th>Server</th>
            <th>Works</th>
            <th>What it answers</th>
          </tr>
        </thead>
        <tbody>
          {of.map(({ address, works, durationMs, detail }) => (
            <tr key={address}>
              <td className="mono">{address}</td>
              <td className={works ? undefined : 'care'}>{works ? `yes, in ${durationMs} ms` : 'no'}</td>
              <td className="whole">{detail}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
