/** Ways to sign in, and what people do with their accounts. */
import type { User } from '@orchard/contract';
import type { Session, Tokens } from './session.js';
import type { SignInPage } from './signInPage.js';
import type { BodyTo, CallId, ReplyTo } from './types.js';
import type { Transport } from './transport.js';

type Caller = Pick<Transport, 'call'>;
export type AccountHandle = SignInPage & {
  /** Mails or texts a one-time code or link; with a code, sign in by {@link AccountHandle.signInByCode}. */
  askSignIn: (how: BodyTo<'accounts.askSignIn'>) => Promise<ReplyTo<'accounts.askSignIn'>>;
  signInByCode: (given: BodyTo<'accounts.signInByCode'>) => Promise<User>;
  signInByLink: (token: string) => Promise<User>;
  /** An account without a name; {@link AccountHandle.becomeUser} makes it one with everything it owns. */
  beginAsGuest: () => Promise<User>;
  becomeUser: (account: BodyTo<'accounts.becomeUser'>) => Promise<User>;
  /** With a passkey of this device; the browser asks which. */
  signInByPasskey: () => Promise<User>;
  addPasskey: (name?: string, proof?: BodyTo<'userFactors.beginPasskey'>) => Promise<ReplyTo<'userFactors.addPasskey'>>;
  /** After a sign-in was refused as `second-factor-needed`: with the ticket of that problem. */
  signInBySecondFactor: (given: BodyTo<'userFactors.signInBySecondFactor'>) => Promise<User>;
  /** With an ID token that the app got from a provider by itself, or the shell it runs in gave it. */
  signInByToken: (way: string, token: string) => Promise<User>;
  signInAtDirectory: (given: BodyTo<'signInWays.signInAtDirectory'>) => Promise<User>;
  sessions: () => Promise<ReplyTo<'accounts.mySessions'>['items']>;
  endSession: (session: string) => Promise<void>;
  change: (changes: BodyTo<'users.patchMe'>) => Promise<User>;
  /** Everything that the service keeps of the signed-in user. */
  exportAll: () => Promise<ReplyTo<'accounts.exportMe'>>;
};

/** @param begin takes the tokens of a new session */
export function accountHandle(
  address: string,
  key: string,
  { transport, anonymous }: { transport: Caller; anonymous: Caller },
  session: Session,
  begin: (tokens: Tokens) => Promise<User>,
): AccountHandle {
  const signIn = async <Id extends CallId>(id: Id, input: object) => begin((await anonymous.call(id, input as never)) as Tokens);
  const call: Caller['call'] = (id, input, options) => transport.call(id, input, options);
  const page = async () => (await import('./signInPage.js')).signInPage(address, key, anonymous, begin);
  return {
    askSignIn: (body) => anonymous.call('accounts.askSignIn', { body }),
    signInByCode: (body) => signIn('accounts.signInByCode', { body }),
    signInByLink: (token) => signIn('accounts.signInByLink', { body: { token } }),
    beginAsGuest: () => signIn('accounts.beginAsGuest', {}),
    becomeUser: async (body) => session.noteUser(await call('accounts.becomeUser', { body })),
    signInByPasskey: async () => {
      const options = await anonymous.call('userFactors.challenge', {});
      const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(options.publicKey as never);
      const passkey = (await navigator.credentials.get({ publicKey })) as PublicKeyCredential;
      return signIn('userFactors.signInByPasskey', { body: { passkey: passkey.toJSON() } });
    },
    addPasskey: async (name, proof = {}) => {
      const options = await call('userFactors.beginPasskey', { body: proof });
      const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(options.publicKey as never);
      const passkey = (await navigator.credentials.create({ publicKey })) as PublicKeyCredential;
      return call('userFactors.addPasskey', { body: { ...(name ? { name } : {}), passkey: passkey.toJSON() } } as never);
    },
    signInBySecondFactor: (body) => signIn('userFactors.signInBySecondFactor', { body }),
    signInByToken: (way, token) => signIn('signInWays.signInByToken', { body: { way, token } }),
    signInAtDirectory: (body) => signIn('signInWays.signInAtDirectory', { body }),
    openSignInPage: async (...wish) => (await page()).openSignInPage(...wish),
    returned: async (...here) => (await page()).returned(...here),
    sessions: async () => (await call('accounts.mySessions', {})).items,
    endSession: (id) => call('accounts.endMySession', { params: { session: id } }) as Promise<never>,
    change: async (body) => session.noteUser(await call('users.patchMe', { body })),
    exportAll: () => call('accounts.exportMe', {}),
  };
}
