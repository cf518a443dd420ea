/** Providers outside at which people sign in: what is set up, and whether each can be used. */
import { Button, Group, Modal, Stack, Text } from '@mantine/core';
import { operations, type SignInWayDocument } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { WayCheck } from './wayCheck.js';
import { KIND_WORDS, WayForm } from './wayForm.js';

const own = operations.signInWays;

export function SignInWays() {
  const { params, details } = useEnvironment();
  const ways = useCall(own.list, { params });
  const [edited, setEdited] = useState<SignInWayDocument | 'new' | null>(null);
  const mayChange = details?.role === 'maintainer' || details?.role === 'owner';
  return (
    <Stack>
      <Loaded of={ways}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No provider outside">
              <Text>
                People may sign in at a provider of OpenID Connect, OAuth 2.0 or SAML 2.0, or with their password of a directory. A button
                for it stands on the sign-in page of this environment, and the app gets one token of ours, whoever proved who they are.
              </Text>
            </Empty>
          ) : (
            items.map((way) => <Way key={way.name} of={way} onEdit={mayChange ? () => setEdited(way) : null} />)
          )
        }
      </Loaded>
      {mayChange && (
        <Group>
          <Button variant="default" leftSection={<IconPlus size={16} aria-hidden />} onClick={() => setEdited('new')}>
            Add a provider
          </Button>
        </Group>
      )}
      <Modal opened={edited !== null} onClose={() => setEdited(null)} title={edited === 'new' ? 'Add a provider' : 'Change the provider'}>
        {edited && <WayForm of={edited === 'new' ? null : edited} onDone={() => setEdited(null)} />}
      </Modal>
    </Stack>
  );
}

/** What a way is, in one line. */
function factsOf(way: SignInWayDocument): string {
  const roles = Object.values(way.roles);
  return [
    way.name,
    KIND_WORDS[way.kind],
    'issuer' in way ? way.issuer : 'address' in way ? way.address : 'authorizeAddress' in way ? way.authorizeAddress : '',
    'clientId' in way ? `as ${way.clientId}` : '',
    way.clients.length > 0 ? `for ${way.clients.join(', ')}` : 'for all clients',
    roles.length > 0 ? `gives ${[...new Set(roles)].join(', ')}` : '',
    'keepTokens' in way && way.keepTokens ? 'keeps tokens' : '',
  ]
    .filter(Boolean)
    .join(' · ');
}

function Way({ of: way, onEdit }: { of: SignInWayDocument; onEdit: (() => void) | null }) {
  const { params } = useEnvironment();
  const at = { ...params, way: way.name };
  const remove = useChange(own.remove);
  return (
    <section className="panel" aria-label={way.title}>
      <Group justify="space-between" mb={6}>
        <div>
          <b>{way.title}</b>{' '}
          <Text span size="sm" c="dimmed">
            {factsOf(way)}
          </Text>
        </div>
        {onEdit && (
          <Group gap="xs">
            <Button size="compact-sm" variant="default" onClick={onEdit}>
              Change
            </Button>
            <ConfirmedButton
              label="Remove"
              verb="Remove"
              question={`Take ${way.title} away?`}
              consequence="Nobody signs in there any more. The accounts of those who came by it stay."
              change={remove}
              onConfirm={() => remove.mutate({ params: at })}
            />
          </Group>
        )}
      </Group>
      {way.redirectAddress && (
        <>
          <Text size="sm">
            {way.kind === 'saml' ? 'Where the provider posts its responses:' : 'To be listed at the provider as a redirect address:'}
          </Text>
          <Code>{way.redirectAddress}</Code>
        </>
      )}
      {way.metadataAddress && (
        <>
          <Text size="sm">Our metadata and entity id, for the provider:</Text>
          <Code>{way.metadataAddress}</Code>
        </>
      )}
      <Trouble error={remove.error} />
      <WayCheck of={way} />
    </section>
  );
}
