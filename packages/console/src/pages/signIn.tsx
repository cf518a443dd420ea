/** Signing in, and making the owner account at the one-time address. */
import { Anchor, Button, Center, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { operations } from '@orchard/contract';
import { type FormEvent, type ReactNode, useState } from 'react';
import { useLocation, useNavigate, useSearchParams } from 'react-router';
import { keepCsrf, queries, useCall, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { ChosenPassword } from '../parts/password.js';

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
          <Anchor href="/forgot-password" size="sm">
            I have forgotten the password
          </Anchor>
        </Stack>
      </form>
    </Frame>
  );
}

/** Asks for a one-time address by mail. Whether there is such an account is told to nobody. */
export function ForgotPasswordPage() {
  const [email, setEmail] = useState('');
  const forgot = useChange(operations.members.forgotPassword);
  return (
    <Frame title="A forgotten password">
      {forgot.isSuccess ? (
        <Text>
          If {email} is a member’s address, a mail is on its way to it. It holds an address where you set a new password, for an hour.
        </Text>
      ) : (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            forgot.mutate({ body: { email } });
          }}
        >
          <Stack gap="sm">
            <TextInput
              label="E-mail address"
              type="email"
              required
              autoComplete="username"
              value={email}
              onChange={({ currentTarget }) => setEmail(currentTarget.value)}
            />
            <Trouble error={forgot.error} />
            <Button type="submit" loading={forgot.isPending}>
              Send me an address
            </Button>
          </Stack>
        </form>
      )}
      <Anchor href="/sign-in" size="sm">
        Back to signing in
      </Anchor>
    </Frame>
  );
}

/** Where a one-time address leads, of members and of users of an app alike. */
export function NewPasswordPage() {
  const [search] = useSearchParams();
  const isMember = search.get('of') !== 'user';
  const [password, setPassword] = useState('');
  const ofMember = useChange(operations.members.newPassword);
  const ofUser = useChange(operations.users.newPassword);
  const change = isMember ? ofMember : ofUser;
  return (
    <Frame title="Set a new password">
      {change.isSuccess ? (
        <Text>The new password is set, and every session that was open has ended. {isMember ? '' : 'Sign in to the app with it.'}</Text>
      ) : (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            change.mutate({ body: { token: search.get('token') ?? '', password } });
          }}
        >
          <Stack gap="sm">
            <ChosenPassword label="New password" value={password} onChange={setPassword} />
            <Trouble error={change.error} />
            <Button type="submit" loading={change.isPending}>
              Set it
            </Button>
          </Stack>
        </form>
      )}
      {isMember && (
        <Anchor href="/sign-in" size="sm">
          Sign in
        </Anchor>
      )}
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
          <ChosenPassword label="Password" value={password} onChange={setPassword} />
          <Trouble error={setUp.error} />
          <Button type="submit" loading={setUp.isPending}>
            Create account
          </Button>
          <Anchor href="/sign-in" size="sm">
            I have an account
          </Anchor>
        </Stack>
      </form>
    </Frame>
  );
}
