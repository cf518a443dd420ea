/** Where an upstream is, how it is shown who calls, and its limits. */
import { Checkbox, Group, NativeSelect, NumberInput, TextInput } from '@mantine/core';
import { operations, type Upstream, type UpstreamDefinition } from '@orchard/contract';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const WAYS = [
  { value: 'none', label: 'nothing' },
  { value: 'basic', label: 'user and password (HTTP Basic)' },
  { value: 'header', label: 'a header' },
  { value: 'client-credentials', label: 'a token of the service (OAuth 2.0 client credentials)' },
  { value: 'exchange', label: 'the user’s token at a provider, exchanged (RFC 8693)' },
  { value: 'user-token', label: 'the user’s token at a provider' },
];
type Values = {
  name: string;
  address: string;
  way: string;
  user: string;
  header: string;
  prefix: string;
  tokenAddress: string;
  clientId: string;
  secret: string;
  provider: string;
  timeoutMs: number | string;
  tries: number | string;
  atOnce: number | string;
  cache: boolean;
  mode: Upstream['mode'];
};

function valuesOf(upstream: Upstream | null): Values {
  const identify = (upstream?.identify ?? { way: 'none' }) as Partial<Record<string, string>>;
  const text = (name: string) => identify[name] ?? '';
  return {
    name: upstream?.name ?? '',
    address: upstream?.address ?? '',
    way: identify.way ?? 'none',
    user: text('user'),
    header: text('header') || 'X-Key',
    prefix: text('prefix'),
    tokenAddress: text('tokenAddress'),
    clientId: text('clientId'),
    secret: text('secret'),
    provider: text('provider'),
    timeoutMs: upstream?.timeoutMs ?? 5_000,
    tries: upstream?.tries ?? 2,
    atOnce: upstream?.atOnce ?? 32,
    cache: upstream?.cache ?? true,
    mode: upstream?.mode ?? 'real',
  };
}

function identifyOf(
  { way, user, header, prefix, tokenAddress, clientId, secret, provider }: Values,
  before: Upstream['identify'] | undefined,
) {
  switch (way) {
    case 'basic':
      return { way, user, secret };
    case 'header':
      return { way, header, secret, ...(prefix ? { prefix } : {}) };
    case 'client-credentials':
      return { way, tokenAddress, clientId, secret };
    case 'exchange':
      return { way, tokenAddress, clientId, secret, provider };
    case 'user-token':
      return { way, provider };
    // What the form does not show stays as it is.
    case 'certificate':
      return before ?? { way: 'none' };
    default:
      return { way: 'none' };
  }
}

/** Parts of a definition that the form does not show stay as they are. */
function bodyOf(values: Values, upstream: Upstream | null): UpstreamDefinition {
  const { trust, retryShare, breaker, mostBytes, pass, operations: open } = upstream ?? {};
  const kept = Object.fromEntries(
    Object.entries({ trust, retryShare, breaker, mostBytes, pass, operations: open }).filter(([, value]) => value !== undefined),
  );
  const { address, timeoutMs, tries, atOnce, cache, mode } = values;
  return {
    ...kept,
    address,
    identify: identifyOf(values, upstream?.identify),
    timeoutMs: Number(timeoutMs),
    tries: Number(tries),
    atOnce: Number(atOnce),
    cache,
    mode,
  } as UpstreamDefinition;
}

export function UpstreamForm({ upstream, onSaved }: { upstream: Upstream | null; onSaved: (name: string) => void }) {
  const { params } = useEnvironment();
  const secrets = useCall(operations.functions.secrets, { params });
  const check = useChange(operations.upstreams.check);
  const save = useOperationForm(operations.upstreams.put, {
    initial: valuesOf(upstream),
    input: (values) => ({ params: { ...params, upstream: values.name }, body: bodyOf(values, upstream) }),
    onDone: ({ name }) => check.mutate({ params: { ...params, upstream: name } }, { onSettled: () => onSaved(name) }),
  });
  const { getInputProps, values } = save.form;
  const names = (secrets.data?.items ?? []).map(({ name }) => name);
  const secretField = (
    <NativeSelect label="Secret" description="Set with orchard secret set" data={['', ...names]} {...getInputProps('secret')} />
  );
  return (
    <FormOf of={save} verb="Save and check">
      {!upstream && <TextInput label="Name" required placeholder="weather" {...getInputProps('name')} />}
      <TextInput
        label="Address"
        required
        placeholder="https://weather.example/v1"
        classNames={{ input: 'mono' }}
        {...getInputProps('address')}
      />
      <NativeSelect
        label="Identify by"
        data={upstream?.identify.way === 'certificate' ? [...WAYS, { value: 'certificate', label: 'a client certificate' }] : WAYS}
        {...getInputProps('way')}
      />
      {values.way === 'basic' && (
        <Group grow align="flex-start">
          <TextInput label="User" {...getInputProps('user')} />
          {secretField}
        </Group>
      )}
      {values.way === 'header' && (
        <Group grow align="flex-start">
          <TextInput label="Header" {...getInputProps('header')} />
          <TextInput label="Before the secret" placeholder="Key " {...getInputProps('prefix')} />
          {secretField}
        </Group>
      )}
      {(values.way === 'client-credentials' || values.way === 'exchange') && (
        <>
          <TextInput label="Token address" classNames={{ input: 'mono' }} {...getInputProps('tokenAddress')} />
          <Group grow align="flex-start">
            <TextInput label="Client id" {...getInputProps('clientId')} />
            {secretField}
          </Group>
        </>
      )}
      {(values.way === 'exchange' || values.way === 'user-token') && <TextInput label="Provider" {...getInputProps('provider')} />}
      <Group grow align="flex-start">
        <NumberInput label="Time limit, ms" min={50} max={30_000} {...getInputProps('timeoutMs')} />
        <NumberInput label="Tries" min={1} max={5} {...getInputProps('tries')} />
        <NumberInput label="Calls at a time" min={1} max={500} {...getInputProps('atOnce')} />
        <NativeSelect
          label="Mode"
          data={[
            { value: 'real', label: 'real' },
            { value: 'record', label: 'record answers' },
            { value: 'play', label: 'play recorded ones' },
          ]}
          {...getInputProps('mode')}
        />
      </Group>
      <Checkbox label="Keep answers as long as they say" {...getInputProps('cache', { type: 'checkbox' })} />
    </FormOf>
  );
}
