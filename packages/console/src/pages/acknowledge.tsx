/** The address in an alert: one button that says somebody is on it. */
import { Anchor, Button, Center, Stack, Text, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { Link, useSearchParams } from 'react-router';
import { useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';

export function AcknowledgePage() {
  const [search] = useSearchParams();
  const token = search.get('token') ?? '';
  const acknowledge = useChange(operations.incidents.acknowledgeByLink, []);
  const { data } = acknowledge;
  return (
    <Center component="main" mih="70vh" p="md">
      <Stack maw={460}>
        <Title order={1}>{data ? 'Acknowledged' : 'An alert'}</Title>
        {data ? (
          <>
            <Text>
              {data.app} / {data.environment}: {data.title}
            </Text>
            <Text>Nobody else is woken. You are told when it is well again.</Text>
            <Anchor component={Link} to={`/${data.app}/${data.environment}/incidents`}>
              The incident
            </Anchor>
          </>
        ) : (
          <>
            <Text>Acknowledge it, and nobody else is woken.</Text>
            <Trouble error={acknowledge.error} />
            <Button loading={acknowledge.isPending} onClick={() => acknowledge.mutate({ body: { token } })}>
              I am on it
            </Button>
          </>
        )}
      </Stack>
    </Center>
  );
}
