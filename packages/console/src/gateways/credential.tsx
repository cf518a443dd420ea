/** Replacing a gateway's credential: first what the file holds and which devices it would strand, then the change. */
import { Button, Checkbox, FileInput, Group, PasswordInput, Stack, Text } from '@mantine/core';
import { type Gateway, operations } from '@orchard/contract';
import { useState } from 'react';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Moment, Trouble } from '../parts/basics.js';
import { counted } from '../parts/format.js';
import { inBase64 } from './addGateway.js';

export function ReplaceCredential({ gateway: { name, kind } }: { gateway: Gateway }) {
  const { params } = useEnvironment();
  const at = { params: { ...params, gateway: name } };
  const [opened, setOpened] = useState(false);
  const [file, setFile] = useState<File | null>(null);
  const [password, setPassword] = useState('');
  const [strandDevices, setStrand] = useState(false);
  const preview = useChange(operations.gateways.previewCredential, []);
  const patch = useChange(operations.gateways.patch);
  const bodyOf = async () => {
    if (kind === 'token') return { keyFile: file ? await file.text() : '' };
    return kind === 'certificate' ? { certificate: file ? await inBase64(file) : '', password } : { password };
  };
  const change = (use: (body: Awaited<ReturnType<typeof bodyOf>>) => void) => void bodyOf().then(use);
  const close = () => {
    setOpened(false);
    preview.reset();
  };
  if (!opened)
    return (
      <Button variant="default" onClick={() => setOpened(true)}>
        Replace credential
      </Button>
    );
  const seen = preview.data;
  return (
    <Stack gap="xs" className="panel" w="100%">
      {(kind === 'certificate' || kind === 'token') && (
        <FileInput
          label={kind === 'token' ? 'Key file' : 'Certificate'}
          description={
            kind === 'token'
              ? 'Signing key in PEM, or the JSON of a service account'
              : 'PKCS#12 with its private key, or the certificate that was signed for a request made here'
          }
          clearable
          value={file}
          onChange={(chosen) => {
            setFile(chosen);
            preview.reset();
          }}
        />
      )}
      {kind !== 'token' && (
        <PasswordInput
          label={kind === 'certificate' ? 'Password of the file' : 'Password'}
          value={password}
          onChange={({ currentTarget }) => setPassword(currentTarget.value)}
        />
      )}
      <Trouble error={preview.error ?? patch.error} />
      {seen && (
        <div role="status">
          <Text size="sm">
            {seen.credential?.text} {seen.credential?.expiresAt && <Moment at={seen.credential.expiresAt} />}
          </Text>
          <Text size="sm" className={seen.stranded > 0 ? 'care' : undefined}>
            {seen.stranded > 0
              ? `${counted(seen.stranded, 'registered device')} could not be reached any more. ${seen.why}`
              : `${counted(seen.devices, 'registered device')} stay${seen.devices === 1 ? 's' : ''} reachable.`}
          </Text>
          {seen.stranded > 0 && (
            <Checkbox
              mt="xs"
              label="Replace it all the same"
              checked={strandDevices}
              onChange={({ currentTarget }) => setStrand(currentTarget.checked)}
            />
          )}
        </div>
      )}
      <Group>
        {seen ? (
          <Button
            loading={patch.isPending}
            disabled={seen.stranded > 0 && !strandDevices}
            onClick={() => change((body) => patch.mutate({ ...at, body: { ...body, strandDevices } }, { onSuccess: close }))}
          >
            Replace
          </Button>
        ) : (
          <Button
            loading={preview.isPending}
            disabled={(kind === 'token' || kind === 'certificate') && !file}
            onClick={() => change((body) => preview.mutate({ ...at, body }))}
          >
            Check it
          </Button>
        )}
        <Button variant="subtle" onClick={close}>
          Cancel
        </Button>
      </Group>
    </Stack>
  );
}
