/** Signing in, joining, and the pages of one-time addresses. */
import { Anchor, Button, Center, PasswordInput, Stack, Text, TextInput, type TextInputProps, Title } from '@mantine/core';
import { type ConfirmationMethod, operations, Problem } from '@orchard/contract';
import { useMutation } from '@tanstack/react-query';
import { type ReactNode, useEffect, useState } from 'react';
import { useLocation, useNavigate, useSearchParams } from 'react-router';
import { api, keepCsrf, queries, useCall } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { FormOf, type OperationForm, useOperationForm } from '../parts/operationForm.js';
import { provePasskey } from '../parts/passkey.js';
import { ChosenPassword } from '../parts/password.js';
import { ProviderButtons, RefusedByProvider } from '../people/memberEntry.js';
import { CodeInput } from '../shell/confirmIdentity.js';

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

/** After signing in: the requested page, with all responses read again. */
function useArrival() {
  const navigate = useNavigate();
  const { pathname, search } = useLocation();
  return async (csrf: string | undefined) => {
    keepCsrf(csrf);
    await queries.resetQueries();
    navigate(['/sign-in', '/second-factor', '/setup', '/join'].includes(pathname) ? '/' : pathname + search, { replace: true });
  };
}

export function SignInPage() {
  const arrive = useArrival();
  const setup = useCall(operations.members.readSetup, {});
  const [needs, setNeeds] = useState<ConfirmationMethod[] | null>(null);
  const signIn = useOperationForm(operations.members.signIn, {
    initial: { email: '', password: '', code: '' },
    input: ({ code, ...body }) => ({ body: { ...body, ...(code ? { code } : {}) } }),
    onDone: ({ csrf }) => void arrive(csrf),
    stale: [],
  });
  const { error } = signIn;
  const methods = error instanceof Problem && error.problem === 'second-factor-needed' ? (error.extras.methods ?? ['code']) : needs;
  useEffect(() => setNeeds(methods), [methods]);
  if (methods) return <SecondStep of={signIn} methods={methods} onBack={() => location.reload()} />;
  return (
    <Frame title="Sign in to Vivid Orchard">
      <RefusedByProvider />
      {setup.data?.needed && (
        <Text size="sm">There is no account here yet. Open the one-time address that the service printed when it started.</Text>
      )}
      <FormOf of={signIn} verb="Sign in">
        <EmailInput {...signIn.form.getInputProps('email')} />
        <PasswordInput label="Password" required autoComplete="current-password" {...signIn.form.getInputProps('password')} />
      </FormOf>
      <PasskeyButton />
      <ProviderButtons />
      <Anchor href="/forgot-password" size="sm">
        Forgot password?
      </Anchor>
    </Frame>
  );
}

type SignInForm = OperationForm<{ email: string; password: string; code: string }>;

/** The password was right; now the second factor. */
function SecondStep({ of, methods, onBack }: { of: SignInForm; methods: ConfirmationMethod[]; onBack: () => void }) {
  const { error, form } = of;
  const asked = { ...of, error: error instanceof Problem && error.problem === 'second-factor-needed' ? null : error };
  return (
    <Frame title="Second factor">
      {methods.includes('passkey') && <PasskeyButton />}
      <FormOf of={asked} verb="Sign in" disabled={form.values.code === ''}>
        <CodeInput value={form.values.code} onChange={(code) => form.setFieldValue('code', code)} />
      </FormOf>
      <Text size="sm" c="dimmed">
        Without your device, use one of your recovery codes. Without those, ask an owner to reset your second factor.
      </Text>
      <Anchor component="button" size="sm" onClick={onBack} ta="left">
        Back to sign-in
      </Anchor>
    </Frame>
  );
}

/** Somebody has signed in at a provider; now the second factor. */
export function SecondFactorPage() {
  const arrive = useArrival();
  const finish = useOperationForm(operations.memberEntry.finish, {
    initial: { code: '' },
    input: ({ code }) => ({ body: { ticket: location.hash.slice(1), code } }),
    onDone: ({ csrf }) => void arrive(csrf),
    stale: [],
  });
  const { form } = finish;
  return (
    <Frame title="Second factor">
      <FormOf of={finish} verb="Sign in" disabled={form.values.code === ''}>
        <CodeInput value={form.values.code} onChange={(code) => form.setFieldValue('code', code)} />
      </FormOf>
      <Anchor href="/sign-in" size="sm">
        Back to sign-in
      </Anchor>
    </Frame>
  );
}

/** A passkey stands for address, password and second factor. */
function PasskeyButton() {
  const arrive = useArrival();
  const signIn = useMutation({
    mutationFn: async () => api.call(operations.members.signInWithPasskey, { body: { passkey: await provePasskey() } }),
    onSuccess: ({ csrf }) => void arrive(csrf),
  });
  return (
    <>
      <Button variant="default" loading={signIn.isPending} onClick={() => signIn.mutate()}>
        Sign in with a passkey
      </Button>
      <Trouble error={signIn.error} />
    </>
  );
}

/** Asks for a one-time address by mail. The response is the same whether or not the account exists. */
export function ForgotPasswordPage() {
  const [sentTo, setSentTo] = useState<string | null>(null);
  const forgot = useOperationForm(operations.members.forgotPassword, {
    initial: { email: '' },
    input: (body) => ({ body }),
    onDone: (_, { email }) => setSentTo(email),
    stale: [],
  });
  return (
    <Frame title="Forgot password">
      {sentTo !== null ? (
        <Text>
          If {sentTo} is a member’s address, a mail is on its way. It holds a one-time address where you set a new password within an hour.
        </Text>
      ) : (
        <FormOf of={forgot} verb="Send mail">
          <EmailInput {...forgot.form.getInputProps('email')} />
        </FormOf>
      )}
      <Anchor href="/sign-in" size="sm">
        Back to sign-in
      </Anchor>
    </Frame>
  );
}

/** The page of a one-time address, for members and app users. */
export function NewPasswordPage() {
  const [search] = useSearchParams();
  const isMember = search.get('of') !== 'user';
  const [isSet, setIsSet] = useState(false);
  const change = useOperationForm(isMember ? operations.members.newPassword : operations.users.newPassword, {
    initial: { password: '' },
    input: ({ password }) => ({ body: { token: search.get('token') ?? '', password } }),
    onDone: () => setIsSet(true),
    stale: [],
  });
  return (
    <Frame title="Set a new password">
      {isSet ? (
        <Text>The new password is set, and all open sessions have ended. {isMember ? '' : 'Sign in to the app with it.'}</Text>
      ) : (
        <FormOf of={change} verb="Save password">
          <ChosenPassword label="New password" {...change.form.getInputProps('password')} />
        </FormOf>
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
  const arrive = useArrival();
  const setUp = useOperationForm(operations.members.setUp, {
    initial: { email: '', name: '', password: '' },
    input: (values) => ({ body: { token: search.get('token') ?? '', ...values } }),
    onDone: ({ csrf }) => void arrive(csrf),
    stale: [],
  });
  const { getInputProps } = setUp.form;
  return (
    <Frame title="Create the owner account">
      <Text size="sm">
        The owner runs this installation: creates apps and environments, and gives others their roles. This address works once.
      </Text>
      <FormOf of={setUp} verb="Create account">
        <TextInput label="Your name" required {...getInputProps('name')} />
        <EmailInput {...getInputProps('email')} />
        <ChosenPassword label="Password" {...getInputProps('password')} />
      </FormOf>
      <Anchor href="/sign-in" size="sm">
        I have an account
      </Anchor>
    </Frame>
  );
}

/** The page of an invitation. */
export function JoinPage() {
  const [search] = useSearchParams();
  const arrive = useArrival();
  const accept = useOperationForm(operations.members.accept, {
    initial: { email: '', name: '', password: '' },
    input: (values) => ({ body: { token: search.get('token') ?? '', ...values } }),
    onDone: ({ csrf }) => void arrive(csrf),
    stale: [],
  });
  const { getInputProps } = accept.form;
  return (
    <Frame title="Join the team">
      <Text size="sm">Use the mail address that the invitation was sent to. The invitation works once.</Text>
      <FormOf of={accept} verb="Join">
        <EmailInput {...getInputProps('email')} />
        <TextInput label="Your name" required {...getInputProps('name')} />
        <ChosenPassword label="Password" {...getInputProps('password')} />
      </FormOf>
    </Frame>
  );
}

/** The page of a mail that asks to confirm a new address. */
export function ConfirmEmailPage() {
  const [search] = useSearchParams();
  const [confirmed, setConfirmed] = useState<string | null>(null);
  const isMember = search.get('of') !== 'user';
  const confirm = useOperationForm(isMember ? operations.members.confirmEmail : operations.accounts.confirm, {
    initial: {},
    input: () => ({ body: { token: search.get('token') ?? '' } }),
    onDone: ({ email }) => setConfirmed(email),
    stale: [operations.members],
  });
  return (
    <Frame title="Confirm your mail address">
      {confirmed ? (
        <Text>{isMember ? `From now on you sign in with ${confirmed}.` : `${confirmed} is confirmed. Go on in the app.`}</Text>
      ) : (
        <FormOf of={confirm} verb="Confirm">
          {null}
        </FormOf>
      )}
      {isMember && (
        <Anchor href="/" size="sm">
          To the console
        </Anchor>
      )}
    </Frame>
  );
}

const EmailInput = (props: TextInputProps) => <TextInput label="E-mail address" type="email" required autoComplete="username" {...props} />;
