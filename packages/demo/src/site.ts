/** The Warden's small web front: what is open, full or closed, at an address of its own. */
import { Buffer } from 'node:buffer';
import { readdirSync, readFileSync } from 'node:fs';
import { join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type HttpClient, operations } from '@orchard/contract';
import { ZipFile } from 'yazl';
import { buffer } from 'node:stream/consumers';
import { CALL_BODY, callScript } from './callPage.js';
import { APP } from './scenario.js';

const params = { app: APP.name, environment: 'dev' };
const NAME = 'warden';

const STYLE = `:root{color-scheme:light dark;--paper:#fbf8f2;--ink:#1d2a2b;--leaf:#1f7a6d;--rule:#ddd6c8}
@media(prefers-color-scheme:dark){:root{--paper:#16201f;--ink:#ece7dc;--leaf:#6fc0ae;--rule:#33413f}}
body{margin:0;background:var(--paper);color:var(--ink);font:17px/1.5 system-ui,sans-serif}
main{max-width:60rem;margin:0 auto;padding:1.5rem}h1{font:600 2rem/1.2 Georgia,serif;margin:.2rem 0}
ul{list-style:none;margin:1.5rem 0;padding:0;display:grid;gap:1.2rem;grid-template-columns:repeat(auto-fill,minmax(14rem,1fr))}
li{border-top:1px solid var(--rule);padding-top:.5rem}img{width:100%;aspect-ratio:3/2;object-fit:cover;border-radius:4px;background:var(--rule)}
b{display:block}video{width:100%;aspect-ratio:4/3;object-fit:cover;border-radius:4px;background:var(--rule)}
form{display:grid;gap:.8rem;max-width:22rem}form[hidden]{display:none}label{display:grid;gap:.2rem}input,button{font:inherit;padding:.4rem .6rem}
.state{color:var(--leaf);font-weight:600}.state[data-state=closed],.state[data-state=full]{color:#d9532c}
`;
const SCRIPT = (address: string, key: string) => `const service = '${address}';
const headers = { 'Orchard-Key': '${key}' };
const list = document.querySelector('ul');
const said = document.querySelector('[role=status]');
const show = async () => {
  try {
    const response = await fetch(service + '/app/v1/data/huts?sort=name&limit=50&include=photo', { headers });
    const { items, detail } = await response.json();
    if (!response.ok) throw new Error(detail);
    list.replaceChildren(...items.map(({ name, state, bunks, freeBunks, _included }) => {
      const item = document.createElement('li');
      const photo = _included?.photo;
      if (photo) {
        const img = document.createElement('img');
        img.src = service + '/files/quillfell-hiker/dev/public/' + photo.path + '?width=480&height=320&fit=cover&format=webp&edition=' + photo.edition;
        img.alt = name;
        img.loading = 'lazy';
        item.append(img);
      }
      const title = document.createElement('b');
      title.textContent = name;
      const line = document.createElement('span');
      line.className = 'state';
      line.dataset.state = state;
      line.textContent = state === 'open' ? (freeBunks ?? 0) + ' of ' + bunks + ' bunks free' : state;
      item.append(title, line);
      return item;
    }));
    said.textContent = items.length + ' huts, as of ' + new Date().toLocaleTimeString();
  } catch (error) {
    said.textContent = 'The huts cannot be shown: ' + error.message;
  }
};
await show();
setInterval(show, 60000);
`;
const PAGE = (body: string) => `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Quillfell Warden</title>
<link rel="stylesheet" href="/warden.css">
<main>${body}</main>
</html>
`;

const filesOf = (address: string, key: string, heading: string): Record<string, string> => ({
  'index.html': PAGE(
    `<h1>${heading}</h1><p role="status">Looking at the huts …</p><ul></ul><script type="module" src="/warden.js"></script>`,
  ),
  'warden.css': STYLE,
  'warden.js': SCRIPT(address, key),
  'call/index.html': PAGE(CALL_BODY),
  'call/call.js': callScript(address, key),
  'about/index.html': PAGE('<h1>About</h1><p>For the tablets in the huts. <a href="/">Back to the huts</a></p>'),
  '404.html': PAGE('<h1>Off the trail</h1><p>There is no page at this address. <a href="/">Back to the huts</a></p>'),
});

async function zipOf(files: Record<string, string | Buffer>): Promise<Buffer> {
  const zip = new ZipFile();
  for (const [path, text] of Object.entries(files)) zip.addBuffer(Buffer.from(text), path);
  zip.end();
  return buffer(zip.outputStream as never);
}

/** Where the built app is. */
const HIKER_APP = fileURLToPath(new URL('../../hiker/dist/site/', import.meta.url));

/** The hikers' app: an installable web app that works without a signal. @returns its address */
export async function seedHikerApp(owner: HttpClient, address: string, key: string): Promise<string> {
  const service = new URL(address).origin;
  const policy = `default-src 'self'; img-src 'self' blob: data: ${service}; connect-src 'self' ${service}; style-src 'self' 'unsafe-inline'; worker-src 'self'`;
  const at = { ...params, site: 'hiker' };
  const site = await owner.call(operations.sites.put, {
    params: at,
    body: {
      client: 'hiker-web',
      fallback: '/index.html',
      headers: [
        { path: '/*', name: 'Content-Security-Policy', value: policy },
        { path: '/worker.js', name: 'Cache-Control', value: 'no-cache' },
      ],
    },
  });
  await pushHikerApp(owner, { address: service, clientKey: key }, 'First release');
  return site.address;
}

/** Puts a version of the hikers' app in use. @param change what differs from the built files, by path */
export async function pushHikerApp(
  owner: HttpClient,
  profile: { address: string; clientKey: string },
  note: string,
  change: (files: Record<string, Buffer>) => void = () => undefined,
): Promise<void> {
  const built = readdirSync(HIKER_APP, { recursive: true, withFileTypes: true }).filter((entry) => entry.isFile());
  const files = Object.fromEntries(
    built.map(({ parentPath, name }) => {
      const path = join(parentPath, name);
      return [relative(HIKER_APP, path), readFileSync(path)];
    }),
  );
  files['orchard-client.json'] = Buffer.from(JSON.stringify(profile));
  change(files);
  await owner.open(operations.sites.push, {
    params: { ...params, site: 'hiker' },
    query: { note },
    headers: { 'content-type': 'application/zip' },
    raw: (await zipOf(files)) as never,
  });
}

/** @returns its address */
export async function seedSite(owner: HttpClient, address: string): Promise<string> {
  const client = await owner.call(operations.clients.create, { params, body: { name: 'warden-web', kind: 'web', origins: [] } });
  const key = client.keys[0]?.key as string;
  const images = new URL(address).origin;
  const policy = `default-src 'self'; img-src 'self' ${images}; connect-src 'self' ${images}; style-src 'self'; script-src 'self' ${images}`;
  const site = await owner.call(operations.sites.put, {
    params: { ...params, site: NAME },
    body: {
      client: 'warden-web',
      headers: [{ path: '/*', name: 'Content-Security-Policy', value: policy }],
      redirects: [{ from: '/huts', to: '/', status: 302 }],
    },
  });
  for (const [heading, note] of [
    ['Huts', 'First version'],
    ['Huts along the Traverse', 'A longer heading'],
  ] as const)
    await owner.open(operations.sites.push, {
      params: { ...params, site: NAME },
      query: { note },
      headers: { 'content-type': 'application/zip' },
      raw: (await zipOf(filesOf(address, key, heading))) as never,
    });
  return site.address;
}
