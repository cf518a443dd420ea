/** The page on which people sign in: where it is, and the team's name, colour and picture. */
import { Button, ColorInput, FileInput, Group, Text, TextInput } from '@mantine/core';
import { operations, type SignInPageDocument } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, Loaded, Trouble } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const own = operations.identity;

export function SignInPageLook() {
  const { params } = useEnvironment();
  const page = useCall(own.page, { params });
  return <Loaded of={page}>{(current) => <LookForm key={JSON.stringify(current)} of={current} />}</Loaded>;
}

function LookForm({ of }: { of: SignInPageDocument }) {
  const { params, details } = useEnvironment();
  const form = useOperationForm(own.changePage, {
    initial: { name: of.name ?? '', colour: of.colour ?? '' },
    input: ({ name, colour }) => ({ params, body: { name: name || null, colour: colour.toLowerCase() || null } }),
  });
  const { getInputProps } = form.form;
  return (
    <fieldset disabled={details?.role === 'viewer'} style={{ border: 0, padding: 0, margin: 0, maxWidth: '46rem' }}>
      <Text size="sm">
        Apps open the page below this address, by OpenID Connect, and get a code back. It has a host of its own where the installation gives
        it one.
      </Text>
      <Code>{of.address}</Code>
      <FormOf of={form} verb="Save">
        <TextInput label="Name" description="What people know the app by. Empty: its name here." {...getInputProps('name')} />
        <ColorInput
          label="Colour"
          description="Of its buttons; their words are black or white, whichever reads better. Empty: ours."
          format="hex"
          withEyeDropper={false}
          {...getInputProps('colour')}
        />
      </FormOf>
      <Picture of={of} />
    </fieldset>
  );
}

function Picture({ of }: { of: SignInPageDocument }) {
  const { params } = useEnvironment();
  const change = useChange(own.changePage);
  const [unreadable, setUnreadable] = useState(false);
  const upload = (file: File | null) => {
    if (!file) return;
    const reader = new FileReader();
    reader.onload = () => change.mutate({ params, body: { picture: String(reader.result) } });
    reader.onerror = () => setUnreadable(true);
    reader.readAsDataURL(file);
  };
  return (
    <>
      <Group align="end" mt="md">
        {of.hasPicture && <img src={`${new URL(of.address).pathname}/page/picture`} alt="On the page now" style={{ maxHeight: '4rem' }} />}
        <FileInput
          label="Picture"
          description="PNG, JPEG or WebP, at most 150 kB"
          accept="image/png,image/jpeg,image/webp"
          onChange={upload}
        />
        {of.hasPicture && (
          <Button variant="default" onClick={() => change.mutate({ params, body: { picture: null } })}>
            Take the picture away
          </Button>
        )}
      </Group>
      {unreadable && <Text className="care">The file cannot be read.</Text>}
      <Trouble error={change.error} />
    </>
  );
}
