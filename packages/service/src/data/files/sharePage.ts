/** The page that asks for the password of a share link. It has no script. */
import { createHash } from 'node:crypto';
import type { Call } from '../../platform/call.js';

const STYLE = `body{font:16px/1.5 Figtree,system-ui,sans-serif;background:#fbf8f2;color:#1d2a2b;display:grid;place-items:center;min-height:95vh;margin:0}
main{max-width:22rem;padding:1.5rem}h1{font-size:1.25rem;overflow-wrap:anywhere}label,input,button{display:block;width:100%;box-sizing:border-box;font:inherit}
input{margin:.25rem 0 1rem;padding:.5rem;border:1px solid #8a9493;border-radius:4px}button{padding:.6rem;border:0;border-radius:4px;background:#1f7a6d;color:#fff}
.wrong{color:#a83a1a}@media(prefers-color-scheme:dark){body{background:#16201f;color:#ece7dc}.wrong{color:#f0906f}}`;
const STYLE_HASH = createHash('sha256').update(STYLE).digest('base64');
const escaped = (text: string): string => text.replace(/[&<>"']/g, (letter) => `&#${letter.charCodeAt(0)};`);

export function sharePage({ response }: Pick<Call, 'response'>, name: string, isWrong: boolean): 'streaming' {
  const wrong = isWrong ? '<p class="wrong" role="alert">This password is wrong.</p>' : '';
  const html = `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="robots" content="noindex"><title>${escaped(name)}</title><style>${STYLE}</style><main><h1>${escaped(name)}</h1>${wrong}<form method="post"><label for="password">Password</label><input id="password" name="password" type="password" required autofocus><button>Download</button></form></main></html>`;
  response.writeHead(isWrong ? 401 : 200, {
    'content-type': 'text/html; charset=utf-8',
    'content-security-policy': `default-src 'none'; style-src 'sha256-${STYLE_HASH}'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'`,
    'cache-control': 'no-store',
    // The address is the key to the file.
    'referrer-policy': 'no-referrer',
    'x-content-type-options': 'nosniff',
  });
  response.end(html);
  return 'streaming';
}
