/** The page on which people sign in: HTML in their language. It has no script, but for the view that asks a passkey. */
import { createHash } from 'node:crypto';
import type { JsonObject } from '@orchard/core';
import { type SignInTexts, signInTexts } from '@orchard/core/accounts';
import type { Response } from 'express';
import { inkOn } from './pageLook.js';

export type View =
  | 'password'
  | 'ask-code'
  | 'code'
  | 'forgot'
  | 'link-sent'
  | 'sign-up'
  | 'confirm-sent'
  | 'second-factor'
  | 'passkey'
  | 'directory'
  | 'add'
  | 'ended';
export type Shown = {
  /** As people know it. */
  app: string;
  colour: string | null;
  /** Address of the team's picture. */
  picture: string | null;
  /** Where its forms go. */
  action: string;
  request: string;
  view: View;
  languages: readonly string[];
  email?: string;
  name?: string;
  trouble?: keyof SignInTexts;
  /** What the environment's rules let people do. */
  may: { code: boolean; signUp: boolean; passkey: boolean };
  /** The version of the terms that a sign-up accepts. */
  terms: string | null;
  /** Providers outside: where each begins, and what its button says. */
  ways: readonly { href: string; title: string }[];
  /** The one that is asked now: its name, and its title. */
  way?: { name: string; title: string };
  ticket?: string;
  passkey?: JsonObject;
};

/** The style of a page. @param colour of the team; null: ours */
export const styleOf = (colour: string | null) => {
  const [light, dark] = colour ? [colour, colour] : ['#1f7a6c', '#6fc3b2'];
  const [onLight, onDark] = colour ? [inkOn(colour), inkOn(colour)] : ['#fbf8f2', '#182020'];
  return `:root{color-scheme:light dark;--ground:#fbf8f2;--ink:#1f2a2a;--accent:${light};--on:${onLight};--care:#9c2f1a;--line:#d8d0bf}
@media(prefers-color-scheme:dark){:root{--ground:#182020;--ink:#ece7da;--accent:${dark};--on:${onDark};--care:#f0a08c;--line:#3b4646}}
*{box-sizing:border-box}body{margin:0;background:var(--ground);color:var(--ink);font:1rem/1.5 Figtree,system-ui,sans-serif}
main{max-width:24rem;margin:8vh auto;padding:0 1.25rem}h1{font:600 1.5rem/1.2 Fraunces,Georgia,serif;margin:0 0 1.5rem}
img{display:block;max-width:100%;max-height:6rem;margin:0 0 1.5rem}
label{display:block;font-weight:600;margin:1rem 0 .25rem}label.check{font-weight:400;display:flex;gap:.5rem;align-items:baseline}
input{width:100%;font:inherit;padding:.6rem .7rem;color:inherit;background:transparent;border:1px solid var(--line);border-radius:6px}input[type=checkbox]{width:auto}
input:focus-visible,button:focus-visible,a:focus-visible{outline:3px solid var(--ink);outline-offset:2px}
button{font:inherit;font-weight:600;border:0;border-radius:6px;padding:.65rem 1rem;margin-top:1.25rem;background:var(--accent);color:var(--on);width:100%;cursor:pointer}
button.plain{background:none;color:inherit;font-weight:400;text-decoration:underline;padding:.4rem;margin-top:.5rem}
a.way,button.way{display:block;width:100%;text-align:center;font-weight:600;color:inherit;background:none;text-decoration:none;border:1px solid var(--line);border-radius:6px;padding:.6rem 1rem;margin-top:.75rem}
a.go{background:var(--accent);color:var(--on);border-color:var(--accent)}code{font-size:.9em;overflow-wrap:anywhere}dt{font-weight:600;margin-top:.75rem}dd{margin:0;overflow-wrap:anywhere}
.care{color:var(--care);font-weight:600}`;
};

/** WebAuthn Level 3 sections 5.1.4 and 5.1.9: options from JSON, the response as JSON; the form carries both. */
const SCRIPT = `const f=document.querySelector('form[data-passkey]');f.addEventListener('submit',async e=>{const i=f.elements.passkey;if(i.value)return;e.preventDefault();try{const o=JSON.parse(f.dataset.passkey);i.value=JSON.stringify((await navigator.credentials.get({publicKey:PublicKeyCredential.parseRequestOptionsFromJSON(o.publicKey)})).toJSON())}catch{i.value='{}'}f.submit()})`;
/** As a content security policy names what stands in the page (CSP Level 3, section 2.3.1). */
export const hashOf = (text: string) => `'sha256-${createHash('sha256').update(text).digest('base64')}'`;
const SCRIPT_HASH = hashOf(SCRIPT);

/** Text as HTML shows it. */
export const escaped = (text: string): string => text.replace(/[&<>"']/g, (letter) => `&#${letter.charCodeAt(0)};`);

/** @param returnsTo the origin or scheme that a form may lead to after it was sent */
export function sendPage(response: Response, status: number, shown: Shown, returnsTo: string | null): void {
  const formAction = ["'self'", ...(returnsTo ? [returnsTo] : [])].join(' ');
  const script = shown.view === 'passkey' ? `script-src ${SCRIPT_HASH}; ` : '';
  sendHtml(
    response,
    status,
    pageOf(shown),
    `default-src 'none'; ${script}img-src 'self'; style-src ${hashOf(styleOf(shown.colour))}; form-action ${formAction}; frame-ancestors 'none'; base-uri 'none'`,
  );
}

/** @param policy the content security policy (CSP Level 3) */
export function sendHtml(response: Response, status: number, html: string, policy: string): void {
  response.status(status);
  response.setHeader('content-type', 'text/html; charset=utf-8');
  response.setHeader('cache-control', 'no-store');
  response.setHeader('referrer-policy', 'no-referrer');
  response.setHeader('x-content-type-options', 'nosniff');
  response.setHeader('content-security-policy', policy);
  response.end(html);
}

/** A form that the browser takes to a provider (SAML 2.0 Bindings, section 3.5.4), with a button: there is no script. */
export function sendForm(response: Response, shown: Shown, { address, form }: { address: string; form: Record<string, string> }): void {
  const { language, texts } = signInTexts(shown.languages);
  const fields = Object.entries(form).map(([name, value]) => `<input type="hidden" name="${escaped(name)}" value="${escaped(value)}">`);
  const body = `<form method="post" action="${escaped(address)}">${fields.join('')}<button>${escaped(texts.goOn)}</button></form>`;
  const policy = `default-src 'none'; img-src 'self'; style-src ${hashOf(styleOf(shown.colour))}; form-action ${new URL(address).origin}; frame-ancestors 'none'; base-uri 'none'`;
  sendHtml(response, 200, frame(shown, language, texts, shown.way?.title ?? texts.title, body), policy);
}

export function pageOf(shown: Shown): string {
  const { language, texts } = signInTexts(shown.languages);
  const fill = fillerOf(shown);
  const trouble = shown.trouble ? `<p class="care" role="alert">${fill(texts[shown.trouble])}</p>` : '';
  const titles: Partial<Record<View, string>> = { 'sign-up': texts.signUpTitle, directory: '{way}', add: '{way}' };
  return frame(shown, language, texts, titles[shown.view] ?? texts.title, trouble + viewOf(shown, texts, fill));
}

const fillerOf =
  ({ app, email, terms, way }: Shown) =>
  (text: string) =>
    escaped(
      text
        .replaceAll('{app}', app)
        .replaceAll('{email}', email ?? '')
        .replaceAll('{terms}', terms ?? '')
        .replaceAll('{way}', way?.title ?? ''),
    );

/** A page around its body, with the team's picture. */
export function frame(shown: Shown, language: string, texts: SignInTexts, heading: string, body: string): string {
  const title = fillerOf(shown)(heading);
  const picture = shown.picture ? `<img src="${escaped(shown.picture)}" alt="${escaped(shown.app)}">` : '';
  const script = shown.view === 'passkey' ? `<script>${SCRIPT}</script>` : '';
  return `<!doctype html>
<html lang="${language}" dir="${texts.direction}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${title}</title><style>${styleOf(shown.colour)}</style></head>
<body><main>${picture}<h1>${title}</h1>${body}</main>${script}</body></html>`;
}

type Fill = (text: string) => string;

function viewOf(shown: Shown, texts: SignInTexts, fill: Fill): string {
  const email = `<label for="email">${fill(texts.email)}</label><input id="email" name="email" type="email" autocomplete="username" required value="${escaped(shown.email ?? '')}">`;
  const back = other(shown, 'back', fill(texts.back));
  switch (shown.view) {
    case 'password':
      return firstView(shown, texts, fill, email);
    case 'ask-code':
      return form(shown, 'send-code', `${email}<button>${fill(texts.sendCode)}</button>`) + back;
    case 'code':
      return `<p>${fill(texts.codeSent)}</p>${form(shown, 'code', `${hidden('email', shown.email ?? '')}${codeField(fill(texts.code))}<button>${fill(texts.signIn)}</button>`)}${back}`;
    case 'forgot':
      return form(shown, 'send-link', `${email}<button>${fill(texts.sendLink)}</button>`) + back;
    case 'link-sent':
      return `<p>${fill(texts.linkSent)}</p>${back}`;
    case 'sign-up':
      return signUpView(shown, texts, fill, email) + back;
    case 'confirm-sent':
      return `<p>${fill(texts.confirmSent)}</p>${back}`;
    case 'second-factor':
      return `<p>${fill(texts.secondFactor)}</p>${form(shown, 'second-factor', `${hidden('ticket', shown.ticket ?? '')}${codeField(fill(texts.code), 'text')}<button>${fill(texts.signIn)}</button>`)}${back}`;
    case 'passkey':
      return (
        form(
          shown,
          'passkey',
          `${hidden('passkey', '')}<button>${fill(texts.byPasskey)}</button>`,
          ` data-passkey="${escaped(JSON.stringify(shown.passkey ?? {}))}"`,
        ) + back
      );
    case 'directory':
      return (
        form(
          shown,
          'directory',
          `${hidden('way', shown.way?.name ?? '')}<label for="user">${fill(texts.user)}</label><input id="user" name="user" autocomplete="username" autocapitalize="none" required value="${escaped(shown.name ?? '')}">${passwordField(fill(texts.password), 'current')}<button>${fill(texts.signIn)}</button>`,
        ) + back
      );
    case 'add':
      return `<p>${fill(texts.adding)}</p>${shown.ways.map(({ href }) => `<a class="way" href="${escaped(href)}">${fill(texts.goOn)}</a>`).join('')}`;
    case 'ended':
      return '';
  }
}

function firstView(shown: Shown, texts: SignInTexts, fill: Fill, email: string): string {
  const password = `${email}${passwordField(fill(texts.password), 'current')}<button>${fill(texts.signIn)}</button>`;
  return [
    form(shown, 'password', password),
    shown.may.passkey ? form(shown, 'ask-passkey', `<button class="way">${fill(texts.byPasskey)}</button>`) : '',
    ...shown.ways.map(({ href, title }) => `<a class="way" href="${escaped(href)}">${escaped(title)}</a>`),
    shown.may.code ? other(shown, 'ask-code', fill(texts.byCode)) : '',
    other(shown, 'forgot', fill(texts.forgot)),
    shown.may.signUp ? other(shown, 'ask-sign-up', fill(texts.noAccount)) : '',
  ].join('');
}

function signUpView(shown: Shown, texts: SignInTexts, fill: Fill, email: string): string {
  const name = `<label for="name">${fill(texts.name)}</label><input id="name" name="name" autocomplete="name" maxlength="200" value="${escaped(shown.name ?? '')}">`;
  const terms = shown.terms
    ? `<label class="check"><input type="checkbox" name="terms" value="${escaped(shown.terms)}" required><span>${fill(texts.terms)}</span></label>`
    : '';
  return form(
    shown,
    'sign-up',
    `${email}${name}${passwordField(fill(texts.password), 'new')}${terms}<button>${fill(texts.create)}</button>`,
  );
}

const hidden = (name: string, value: string) => `<input type="hidden" name="${name}" value="${escaped(value)}">`;
const other = (shown: Shown, step: string, text: string) => form(shown, step, `<button class="plain">${text}</button>`);
const passwordField = (label: string, which: 'current' | 'new') =>
  `<label for="password">${label}</label><input id="password" name="password" type="password" autocomplete="${which}-password" required>`;
const codeField = (label: string, mode: 'numeric' | 'text' = 'numeric') =>
  `<label for="code">${label}</label><input id="code" name="code" inputmode="${mode}" autocomplete="one-time-code" required>`;

const form = ({ action, request }: Shown, step: string, fields: string, more = ''): string =>
  `<form method="post" action="${escaped(action)}"${more}>${hidden('request', request)}${hidden('step', step)}${fields}</form>`;
