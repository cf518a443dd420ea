/** Adding a gateway: its kind decides the fields; the service checks files before it stores them. */
import { FileInput, Group, NumberInput, PasswordInput, SegmentedControl, Select, TextInput } from '@mantine/core';
import { type NewGateway, operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { SigningRequests } from './signingRequests.js';
import { FormOf, type OperationForm, useOperationForm } from '../parts/operationForm.js';

type Kind = NewGateway['kind'];
const KINDS: { value: Kind; label: string }[] = [
  { value: 'certificate', label: 'Push by certificate' },
  { value: 'token', label: 'Push by token' },
  { value: 'smpp', label: 'SMS over SMPP' },
  { value: 'http', label: 'SMS or anything else over HTTP' },
  { value: 'smtp', label: 'Mail over SMTP' },
];

export async function inBase64(file: File): Promise<string> {
  let text = '';
  for (const byte of new Uint8Array(await file.arrayBuffer())) text += String.fromCharCode(byte);
  return btoa(text);
}

/** A chosen file with its content, which is read at once, so that the form is checked with it. */
type Chosen<Content> = { file: File; content: Content } | null;

/** The gateway's settings from the form, with numbers parsed. */
type Settings = {
  address: string;
  host: string;
  port: number | '';
  systemId: string;
  sender: string;
  from: string;
  user: string;
  keyId: string;
  issuer: string;
};
const NEEDED: Record<Kind, (keyof Settings)[]> = {
  certificate: ['address'],
  token: ['address', 'keyId', 'issuer'],
  smpp: ['host', 'port', 'systemId', 'sender'],
  http: ['address', 'sender'],
  smtp: ['host', 'port', 'from', 'user'],
};
const LABELS: Record<keyof Settings, [label: string, description?: string]> = {
  address: ['Base address', 'https, from the network’s documentation'],
  host: ['Host'],
  port: ['Port'],
  systemId: ['System id'],
  sender: ['Sender', 'A number, or a name of up to 11 characters'],
  from: ['Sender', 'Such as Quillfell Huts <huts@quillfell.example>'],
  user: ['User'],
  keyId: ['Key id', 'With a signing key'],
  issuer: ['Issuer', 'With a signing key'],
};

type Values = {
  kind: Kind;
  name: string;
  stage: 'trial' | 'live';
  client: string | null;
  settings: Settings;
  password: string;
  certificate: Chosen<string>;
  keyFile: Chosen<string>;
  mapping: Chosen<unknown>;
  trust: Chosen<string>;
};
const INITIAL: Values = {
  kind: 'certificate',
  name: '',
  stage: 'trial',
  client: null,
  settings: { address: '', host: '', port: '', systemId: '', sender: '', from: '', user: '', keyId: '', issuer: '' },
  password: '',
  certificate: null,
  keyFile: null,
  mapping: null,
  trust: null,
};
const INITIAL_OF_INSTALLATION: Values = { ...INITIAL, kind: 'smtp', stage: 'live' };
const isPush = (kind: Kind) => kind === 'certificate' || kind === 'token';
const isMapped = (kind: Kind) => isPush(kind) || kind === 'http';

/** The body of the call: of all values, those that the kind has. */
export function gatewayOf({ kind, name, stage, client, settings, password, certificate, keyFile, mapping, trust }: Values): NewGateway {
  const chosen = Object.fromEntries(NEEDED[kind].map((one) => [one, settings[one]]).filter(([, value]) => value !== ''));
  return {
    kind,
    name,
    stage,
    settings: { ...chosen, ...(trust ? { trust: trust.content } : {}) },
    ...(isPush(kind) ? { client: client ?? undefined } : {}),
    ...(isMapped(kind) ? { mapping: mapping?.content } : {}),
    ...(kind === 'certificate' ? { certificate: certificate?.content } : {}),
    ...(kind === 'token' ? { keyFile: keyFile?.content } : { password }),
  } as NewGateway;
}

type FilesOf = 'certificate' | 'keyFile' | 'mapping' | 'trust';
const READ: Record<FilesOf, (file: File) => Promise<unknown>> = {
  certificate: inBase64,
  keyFile: (file) => file.text(),
  trust: (file) => file.text(),
  mapping: async (file) => JSON.parse(await file.text()) as unknown,
};

function ChosenFile({
  of: { form },
  name,
  ...labels
}: {
  of: OperationForm<Values>;
  name: FilesOf;
  label: string;
  description: string;
  required?: boolean;
}) {
  async function choose(file: File | null): Promise<void> {
    form.clearFieldError(name);
    try {
      form.setFieldValue(name, (file && { file, content: await READ[name](file) }) as never);
    } catch (error) {
      form.setFieldValue(name, null as never);
      form.setFieldError(name, `${file?.name} is not JSON: ${(error as Error).message}`);
    }
  }
  return (
    <FileInput
      {...labels}
      clearable
      value={form.values[name]?.file ?? null}
      onChange={(file) => void choose(file)}
      error={form.errors[name]}
    />
  );
}

/** Fields for the settings that a kind needs. */
function SettingFields({ form, kind }: { form: OperationForm<Values>['form']; kind: Kind }) {
  return NEEDED[kind].map((field) =>
    field === 'port' ? (
      <NumberInput key={field} label="Port" required min={1} max={65_535} {...form.getInputProps('settings.port')} />
    ) : (
      <TextInput
        key={field}
        label={LABELS[field][0]}
        description={LABELS[field][1]}
        required={!['keyId', 'issuer', 'user'].includes(field)}
        {...form.getInputProps(`settings.${field}`)}
      />
    ),
  );
}

/** @param installation whether it becomes a gateway of the installation, which has no apps to push to */
export function AddGateway({ onMade, installation = false }: { onMade: (name: string) => void; installation?: boolean }) {
  const { params } = useEnvironment();
  const clients = useCall(operations.clients.list, { params });
  const create = (installation ? operations.memberWays.addGateway : operations.gateways.create) as typeof operations.gateways.create;
  const add = useOperationForm(create, {
    initial: installation ? INITIAL_OF_INSTALLATION : INITIAL,
    input: (values) => ({ params: installation ? ({} as typeof params) : params, body: gatewayOf(values) }),
    onDone: (made) => onMade(made.name),
    stale: [operations.gateways, operations.memberWays, operations.clients],
  });
  const { getInputProps, values, setFieldValue } = add.form;
  const { kind } = values;
  return (
    <>
      <FormOf of={add} verb="Check and add">
        <Select
          label="Kind"
          data={installation ? KINDS.filter((one) => !isPush(one.value)) : KINDS}
          value={kind}
          onChange={(value) => setFieldValue('kind', (value ?? 'certificate') as Kind)}
          allowDeselect={false}
        />
        <Group grow align="flex-end">
          <TextInput label="Name" required placeholder="ios-push" {...getInputProps('name')} />
          <SegmentedControl aria-label="Stage" data={['trial', 'live']} {...getInputProps('stage')} />
        </Group>
        {isPush(kind) && (
          <Select
            label="Client"
            description="The client whose devices it reaches"
            required
            data={(clients.data?.items ?? []).filter((one) => one.kind !== 'server').map((one) => one.name)}
            {...getInputProps('client')}
          />
        )}
        <SettingFields form={add.form} kind={kind} />
        {kind === 'certificate' && (
          <ChosenFile
            of={add}
            name="certificate"
            label="Certificate"
            description="PKCS#12 with its private key (.p12), or the certificate signed for a request made here"
            required
          />
        )}
        {kind === 'token' ? (
          <ChosenFile
            of={add}
            name="keyFile"
            label="Key file"
            description="Signing key in PEM, or the JSON of a service account"
            required
          />
        ) : (
          <PasswordInput label={kind === 'certificate' ? 'Password of the file' : 'Password'} {...getInputProps('password')} />
        )}
        {isMapped(kind) && (
          <ChosenFile of={add} name="mapping" label="Gateway mapping" description="JSON that defines the network’s protocol" required />
        )}
        <ChosenFile of={add} name="trust" label="Authority to trust" description="PEM; only for networks with one of their own" />
      </FormOf>
      {kind === 'certificate' && values.client && <SigningRequests client={values.client} />}
    </>
  );
}
