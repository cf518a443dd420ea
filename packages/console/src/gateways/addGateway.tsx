/** Adding a gateway: its kind decides what is asked for; files are looked through by the service before they are stored. */
import { Button, FileInput, Group, NumberInput, PasswordInput, SegmentedControl, Select, Stack, Text, TextInput } from '@mantine/core';
import { type NewGateway, operations, Problem } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { usePlace } from '../place.js';

type Kind = NewGateway['kind'];
const KINDS: { value: Kind; label: string }[] = [
  { value: 'certificate', label: 'Push by certificate' },
  { value: 'token', label: 'Push by token' },
  { value: 'smpp', label: 'SMS over SMPP' },
  { value: 'http', label: 'SMS or anything else over HTTP' },
  { value: 'smtp', label: 'Mail over SMTP' },
];

async function inBase64(file: File): Promise<string> {
  let text = '';
  for (const byte of new Uint8Array(await file.arrayBuffer())) text += String.fromCharCode(byte);
  return btoa(text);
}

/** The parts of the form that make a gateway's settings; numbers are numbers. */
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

export function AddGateway({ onMade }: { onMade: (name: string) => void }) {
  const { params } = usePlace();
  const [kind, setKind] = useState<Kind>('certificate');
  const [name, setName] = useState('');
  const [stage, setStage] = useState<'trial' | 'live'>('trial');
  const [client, setClient] = useState<string | null>(null);
  const [settings, setSettings] = useState<Settings>({
    address: '',
    host: '',
    port: '',
    systemId: '',
    sender: '',
    from: '',
    user: '',
    keyId: '',
    issuer: '',
  });
  const [password, setPassword] = useState('');
  const [files, setFiles] = useState<{ credential: File | null; mapping: File | null; trust: File | null }>({
    credential: null,
    mapping: null,
    trust: null,
  });
  const [unreadable, setUnreadable] = useState<string | null>(null);
  const clients = useCall(operations.clients.list, { params });
  const create = useChange(operations.gateways.create, ['gateways.', 'clients.']);
  const isPush = kind === 'certificate' || kind === 'token';
  const mapped = isPush || kind === 'http';
  const file = (what: keyof typeof files) => ({
    value: files[what],
    onChange: (chosen: File | null) => setFiles((before) => ({ ...before, [what]: chosen })),
    clearable: true,
  });
  async function add(): Promise<void> {
    setUnreadable(null);
    let mapping: unknown;
    try {
      mapping = mapped && files.mapping ? JSON.parse(await files.mapping.text()) : undefined;
    } catch (error) {
      return setUnreadable(`The mapping is not JSON: ${(error as Error).message}`);
    }
    const chosen = Object.fromEntries(NEEDED[kind].map((one) => [one, settings[one]]).filter(([, value]) => value !== ''));
    const body = {
      kind,
      name,
      stage,
      settings: { ...chosen, ...(files.trust ? { trust: await files.trust.text() } : {}) },
      ...(isPush ? { client } : {}),
      ...(mapped ? { mapping } : {}),
      ...(kind === 'certificate' && files.credential ? { certificate: await inBase64(files.credential) } : {}),
      ...(kind === 'token' && files.credential ? { keyFile: await files.credential.text() } : {}),
      ...(kind === 'token' ? {} : { password }),
    };
    create.mutate({ params, body: body as never }, { onSuccess: (made) => onMade(made.name) });
  }
  const fields = create.error instanceof Problem ? (create.error.extras.fields ?? []) : [];
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        void add();
      }}
    >
      <Stack gap="sm">
        <Select
          label="Kind"
          data={KINDS}
          value={kind}
          onChange={(value) => setKind((value ?? 'certificate') as Kind)}
          allowDeselect={false}
        />
        <Group grow align="flex-end">
          <TextInput
            label="Name"
            required
            placeholder="ios-push"
            value={name}
            onChange={({ currentTarget }) => setName(currentTarget.value)}
          />
          <SegmentedControl aria-label="Stage" value={stage} onChange={(value) => setStage(value as 'trial')} data={['trial', 'live']} />
        </Group>
        {isPush && (
          <Select
            label="Client"
            description="The client whose devices it reaches"
            required
            value={client}
            onChange={setClient}
            data={(clients.data?.items ?? []).filter((one) => one.kind !== 'server').map((one) => one.name)}
          />
        )}
        {NEEDED[kind].map((field) =>
          field === 'port' ? (
            <NumberInput
              key={field}
              label="Port"
              required
              min={1}
              max={65_535}
              value={settings.port}
              onChange={(value) => setSettings((before) => ({ ...before, port: value === '' ? '' : Number(value) }))}
            />
          ) : (
            <TextInput
              key={field}
              label={LABELS[field][0]}
              description={LABELS[field][1]}
              required={!['keyId', 'issuer', 'user'].includes(field)}
              value={settings[field]}
              onChange={({ currentTarget }) => setSettings((before) => ({ ...before, [field]: currentTarget.value }))}
            />
          ),
        )}
        {kind === 'certificate' && (
          <FileInput label="Certificate" description="PKCS#12 with its private key (.p12)" required {...file('credential')} />
        )}
        {kind === 'token' && (
          <FileInput label="Key file" description="Signing key in PEM, or the JSON of a service account" required {...file('credential')} />
        )}
        {kind !== 'token' && (
          <PasswordInput
            label={kind === 'certificate' ? 'Password of the file' : 'Password'}
            value={password}
            onChange={({ currentTarget }) => setPassword(currentTarget.value)}
          />
        )}
        {mapped && <FileInput label="Gateway mapping" description="JSON that says what goes on the wire" required {...file('mapping')} />}
        <FileInput label="Authority to trust" description="PEM; only for networks with one of their own" {...file('trust')} />
        {unreadable && (
          <Text className="care" role="alert">
            {unreadable}
          </Text>
        )}
        <Trouble error={create.error}>
          {fields.length > 1 && (
            <ul>
              {fields.map(({ path, problem }) => (
                <li key={path}>
                  <code>{path}</code> {problem}
                </li>
              ))}
            </ul>
          )}
        </Trouble>
        <Group justify="flex-end">
          <Button type="submit" loading={create.isPending}>
            Look it through and add
          </Button>
        </Group>
      </Stack>
    </form>
  );
}
