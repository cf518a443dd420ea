/** The page on which people sign in: HTML without script, in their language. */
import { createHash } from 'node:crypto';
import { type SignInTexts, signInTexts } from '@orchard/core/accounts';
import type { Response } from 'express';

export type View = 'password' | 'ask-code' | 'code' | 'forgot' | 'link-sent' | 'ended';
export type Shown = {
  app: string;
  /** Where its forms go. */
  action: string;
  request: string;
  view: View;
  languages: readonly string[];
  email?: string;
  trouble?: keyof SignInTexts;
  mayCode: boolean;
  /** Providers outside: where each begins, and what its button says. */
  ways: readonly { href: string; title: string }[];
};

const STYLE = `:root{color-scheme:light dark;--ground:#fbf8f2;--ink:#1f2a2a;--accent:#1f7a6c;--care:#9c2f1a;--line:#d8d0bf}
@media(prefers-color-scheme:dark){:root{--ground:#182020;--ink:#ece7da;--accent:#6fc3b2;--care:#f0a08c;--line:#3b4646}}
*{box-sizing:border-box}body{margin:0;background:var(--ground);color:var(--ink);font:1rem/1.5 Figtree,system-ui,sans-serif}
main{max-width:24rem;margin:10vh auto;padding:0 1.25rem}h1{font:600 1.5rem/1.2 Fraunces,Georgia,serif;margin:0 0 1.5rem}
label{display:block;font-weight:600;margin:1rem 0 .25rem}input{width:100%;font:inherit;padding:.6rem .7rem;color:inherit;background:transparent;border:1px solid var(--line);border-radius:6px}
input:focus-visible,button:focus-visible{outline:3px solid var(--accent);outline-offset:2px}
button{font:inherit;font-weight:600;border:0;border-radius:6px;padding:.65rem 1rem;margin-top:1.25rem;background:var(--accent);color:var(--ground);width:100%;cursor:pointer}
button.plain{background:none;color:inherit;font-weight:400;text-decoration:underline;padding:.4rem;margin-top:.5rem}
a.way{display:block;text-align:center;font-weight:600;color:inherit;text-decoration:none;border:1px solid var(--line);border-radius:6px;padding:.6rem 1rem;margin-top:.75rem}
.care{color:var(--care);font-weight:600}`;
const STYLE_HASH = createHash('sha256').update(STYLE).digest('base64');

const escaped = (text: string): string => text.replace(/[&<>"']/g, (letter) => `&#${letter.charCodeAt(0)};`);

/** @param returnsTo the origin or scheme that a form may lead to after it was sent */
export function sendPage(response: Response, status: number, shown: Shown, returnsTo: string | null): void {
  const formAction = ["'self'", ...(returnsTo ? [returnsTo] : [])].join(' ');
  response.status(status);
  response.setHeader('content-type', 'text/html; charset=utf-8');
  response.setHeader('cache-control', 'no-store');
  response.setHeader('referrer-policy', 'no-referrer');
  response.setHeader('x-content-type-options', 'nosniff');
  response.setHeader(
    'content-security-policy',
    `default-src 'none'; style-src 'sha256-${STYLE_HASH}'; form-action ${formAction}; frame-ancestors 'none'; base-uri 'none'`,
  );
  response.end(pageOf(shown));
}

export function pageOf(shown: Shown): string {
  const { language, texts } = signInTexts(shown.languages);
  const fill = (text: string) => escaped(text.replaceAll('{app}', shown.app).replaceAll('{email}', shown.email ?? ''));
  const title = fill(texts.title);
  const trouble = shown.trouble ? `<p class="care" role="alert">${fill(texts[shown.trouble])}</p>` : '';
  return `<!doctype html>
<html lang="${language}" dir="${texts.direction}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${title}</title><style>${STYLE}</style></head>
<body><main><h1>${title}</h1>${trouble}${viewOf(shown, texts, fill)}</main></body></html>`;
}

function viewOf(shown: Shown, texts: SignInTexts, fill: (text: string) => string): string {
  const email = `<label for="email">${fill(texts.email)}</label><input id="email" name="email" type="email" autocomplete="username" required value="${escaped(shown.email ?? '')}">`;
  const other = (step: string, text: string) => form(shown, step, `<button class="plain">${fill(text)}</button>`);
  switch (shown.view) {
    case 'password':
      return [
        form(
          shown,
          'password',
          `${email}<label for="password">${fill(texts.password)}</label><input id="password" name="password" type="password" autocomplete="current-password" required><button>${fill(texts.signIn)}</button>`,
        ),
        ...shown.ways.map(({ href, title }) => `<a class="way" href="${escaped(href)}">${escaped(title)}</a>`),
        shown.mayCode ? other('ask-code', texts.byCode) : '',
        other('forgot', texts.forgot),
      ].join('');
    case 'ask-code':
      return form(shown, 'send-code', `${email}<button>${fill(texts.sendCode)}</button>`) + other('back', texts.back);
    case 'code':
      return `<p>${fill(texts.codeSent)}</p>${form(
        shown,
        'code',
        `<input type="hidden" name="email" value="${escaped(shown.email ?? '')}"><label for="code">${fill(texts.code)}</label><input id="code" name="code" inputmode="numeric" autocomplete="one-time-code" required><button>${fill(texts.signIn)}</button>`,
      )}${other('back', texts.back)}`;
    case 'forgot':
      return form(shown, 'send-link', `${email}<button>${fill(texts.sendLink)}</button>`) + other('back', texts.back);
    case 'link-sent':
      return `<p>${fill(texts.linkSent)}</p>${other('back', texts.back)}`;
    case 'ended':
      return '';
  }
}

const form = ({ action, request }: Shown, step: string, fields: string): string =>
  `<form method="post" action="${escaped(action)}"><input type="hidden" name="request" value="${escaped(request)}"><input type="hidden" name="step" value="${step}">${fields}</form>`;
