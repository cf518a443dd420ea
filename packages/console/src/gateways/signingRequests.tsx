/** Signing requests: a key made here, and the request that the push network signs. */
import { Button, Group, Stack, Text, TextInput } from '@mantine/core';
import { operations, type SigningRequest } from '@orchard/contract';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Moment } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

/** @param client the client that the certificate is for */
export function SigningRequests({ client }: { client: string }) {
  const { params } = useEnvironment();
  const requests = useCall(operations.gateways.signingRequests, { params });
  const open = (requests.data?.items ?? []).filter((one) => one.client === client);
  const add = useOperationForm(operations.gateways.addSigningRequest, {
    initial: { organization: '', country: '', mail: '' },
    input: (values) => ({
      params,
      body: { client, ...Object.fromEntries(Object.entries(values).filter(([, value]) => value !== '')) },
    }),
    onDone: () => add.form.reset(),
  });
  const { getInputProps } = add.form;
  return (
    <Stack gap="sm" className="panel">
      <Text size="sm">
        Without a certificate yet: make a key and a signing request here, let the push network sign it, and choose the certificate that
        comes back above. The key stays here.
      </Text>
      {open.map((request) => (
        <OneRequest key={request.id} request={request} />
      ))}
      <FormOf of={add} verb="Make a signing request" row>
        <TextInput label="Organization" {...getInputProps('organization')} w={150} />
        <TextInput label="Country" placeholder="NO" {...getInputProps('country')} w={80} />
        <TextInput label="Mail address" {...getInputProps('mail')} w={190} />
      </FormOf>
    </Stack>
  );
}

function OneRequest({ request: { id, pem, createdAt, subject } }: { request: SigningRequest }) {
  const { params } = useEnvironment();
  const remove = useChange(operations.gateways.removeSigningRequest);
  const file = URL.createObjectURL(new Blob([pem], { type: 'application/pkcs10' }));
  return (
    <div>
      <Group justify="space-between">
        <Text size="sm">
          {Object.values(subject).join(', ')}, made <Moment at={createdAt} />
        </Text>
        <Group gap="xs">
          <Button component="a" size="compact-xs" variant="default" href={file} download={`${subject.commonName}.csr`}>
            Download
          </Button>
          <ConfirmedButton
            label="Delete"
            verb="Delete"
            question="Delete this signing request?"
            consequence="Its key is deleted with it: a certificate signed for it is of no use any more."
            change={remove}
            onConfirm={(done) => remove.mutate({ params: { ...params, request: id } }, { onSuccess: done })}
          />
        </Group>
      </Group>
      <Code label="Copy this signing request">{pem.trimEnd()}</Code>
    </div>
  );
}
