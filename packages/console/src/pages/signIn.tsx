/** Signing in, and making the owner account at the one-time address. */
import { Anchor, Button, Center, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { type FormEvent, type ReactNode, useState } from 'react';
import { useLocation, useNavigate, useSearchParams } from 'react-router';
import { keepCsrf, queries, useCall, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';

function Frame({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Center component="main" mih="100vh" p="md">
      <Stack w={380} gap="md">
        <img src="/leaf.svg" alt="" width={44} height={44} />
        <Title order={1}>{title}</Title>
        {children}
      </Stack>
    </Center>
  );
}

/** After signing in: the page that was asked for, with everything read anew. */
function useArrival() {
  const navigate = useNavigate();
  const { pathname, search } = useLocation();
  return async (csrf: string | undefined) => {
    keepCsrf(csrf);
    await queries.resetQueries();
    navigate(pathname === '/sign-in' || pathname === '/setup' ? '/' : pathname + search, { replace: true });
  };
}

export function SignInPage() {
  const [email, setEmail] = useState('');
  const [password, setPassword] = useState('');
  const arrive = useArrival();
  const setup = useCall(operations.members.readSetup, {});
  const signIn = useChange(operations.members.signIn);
  async function submit(event: FormEvent): Promise<void> {
    event.preventDefault();
    const answer = await signIn.mutateAsync({ body: { email, password } }).catch(() => null);
    if (answer) await arrive(answer.csrf);
  }
  return (
    <Frame title="Sign in to Vivid Orchard">
      {setup.data?.needed && (
        <Text size="sm">Nobody has an account here yet. Open the one-time address that the start of the service printed.</Text>
      )}
      <form onSubmit={(event) => void submit(event)}>
        <Stack gap="sm">
          <TextInput
            label="E-mail address"
            type="email"
            required
            autoComplete="username"
            value={email}
            onChange={({ currentTarget }) => setEmail(currentTarget.value)}
          />
          <PasswordInput
            label="Password"
            required
            autoComplete="current-password"
            value={password}
            onChange={({ currentTarget }) => setPassword(currentTarget.value)}
          />
          <Trouble error={signIn.error} />
          <Button type="submit" loading={signIn.isPending}>
            Sign in
          </Button>
        </Stack>
      </form>
    </Frame>
  );
}

export function SetupPage() {
  const [search] = useSearchParams();
  const [email, setEmail] = useState('');
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const arrive = useArrival();
  const setUp = useChange(operations.members.setUp);
  async function submit(event: FormEvent): Promise<void> {
    event.preventDefault();
    const answer = await setUp.mutateAsync({ body: { token: search.get('token') ?? '', email, name, password } }).catch(() => null);
    if (answer) await arrive(answer.csrf);
  }
  return (
    <Frame title="Make the owner account">
      <Text size="sm">
        The owner runs this installation: makes apps and environments, and gives others their roles. This address works once.
      </Text>
      <form onSubmit={(event) => void submit(event)}>
        <Stack gap="sm">
          <TextInput label="Your name" required value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
          <TextInput
            label="E-mail address"
            type="email"
            required
            autoComplete="username"
            value={email}
            onChange={({ currentTarget }) => setEmail(currentTarget.value)}
          />
          <PasswordInput
            label="Password"
            description="At least 10 characters"
            required
            minLength={10}
            autoComplete="new-password"
            value={password}
            onChange={({ currentTarget }) => setPassword(currentTarget.value)}
          />
          <Trouble error={setUp.error} />
          <Button type="submit" loading={setUp.isPending}>
            Make the account
          </Button>
          <Anchor href="/sign-in" size="sm">
            I have an account
          </Anchor>
        </Stack>
      </form>
    </Frame>
  );
}
