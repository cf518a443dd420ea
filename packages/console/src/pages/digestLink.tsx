/** The address in the mail of a digest: one button that confirms it, or ends it. */
import { Button, Center, Stack, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useSearchParams } from 'react-router';
import { useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';

export function DigestLinkPage() {
  const [search] = useSearchParams();
  const token = search.get('token') ?? '';
  const confirm = useChange(operations.digests.confirm, []);
  const end = useChange(operations.digests.end, []);
  const ends = search.get('end') !== null;
  return (
    <Center component="main" mih="70vh" p="md">
      <Stack maw={460}>
        <Title order={1}>{ends ? 'Stop the digest' : 'Confirm the digest'}</Title>
        <Trouble error={confirm.error ?? end.error} />
        {confirm.data && (
          <Text>
            {confirm.data.address} gets {confirm.data.name}, the first time on {new Date(confirm.data.nextAt).toLocaleString('en-GB')}.
          </Text>
        )}
        {end.data && <Text>You get {end.data.name} no more.</Text>}
        {!confirm.data && !end.data && (
          <Button loading={confirm.isPending || end.isPending} onClick={() => (ends ? end : confirm).mutate({ body: { token } })}>
            {ends ? 'Stop it' : 'I want to get it'}
          </Button>
        )}
      </Stack>
    </Center>
  );
}
