/**
 * Starters: small programs that run as they are, with address and key filled in. A list of things to do, since every team
 * knows what that should do.
 */

export const STARTERS = ['web', 'node'] as const;
export type Starter = (typeof STARTERS)[number];
/** Where the web starter's own server listens: the origin that its client must allow. */
export const STARTER_ORIGIN = 'http://localhost:5180';

export type StarterGround = { app: string; environment: string; address: string; key: string; push: boolean };
/** Files of the client library that a starter brings along. */
export const STARTER_LIBRARY: Record<Starter, readonly string[]> = {
  web: [
    'orchard.min.js',
    'orchard-offline.min.js',
    'orchard-push.min.js',
    'orchard-upload.min.js',
    'orchard-signInPage.min.js',
    'orchard-sending.min.js',
    'orchard-worker.js',
  ],
  node: ['orchard.js', 'orchard-offline.js', 'orchard-push.js', 'orchard-upload.js', 'orchard-signInPage.js', 'orchard-sending.js'],
};

const profile = ({ address, key }: StarterGround) => `${JSON.stringify({ address, clientKey: key }, null, 2)}\n`;

/** @returns contents by path, without those of the library */
export function starterFiles(starter: Starter, ground: StarterGround): Record<string, string> {
  return starter === 'web' ? webStarter(ground) : nodeStarter(ground);
}

function webStarter(ground: StarterGround): Record<string, string> {
  const { app, environment, push } = ground;
  return {
    'orchard-client.json': profile(ground),
    'package.json': `${JSON.stringify({ name: `${app}-web`, private: true, type: 'module', scripts: { start: 'node serve.mjs' } }, null, 2)}\n`,
    'README.md': `# A web app on ${app}/${environment}

\`node serve.mjs\`, then open ${STARTER_ORIGIN}. Sign up, write something down, reload, and write without a signal: what is done stays in view.

The service must allow the origin ${STARTER_ORIGIN} for the client whose key stands in \`orchard-client.json\`; the console has done so if you let
it. The first thing that is stored makes the collection \`tasks\`; each belongs to who wrote it.
${push ? '\n"Tell me" turns on web push; send yourself a notification from the console, under Compose.\n' : ''}`,
    'serve.mjs': `// A server of static files for this folder.
import { createServer } from 'node:http';
import { readFile } from 'node:fs/promises';
import { extname, join, normalize } from 'node:path';

const TYPES = { '.html': 'text/html', '.js': 'text/javascript', '.json': 'application/json', '.css': 'text/css' };
createServer(async (request, response) => {
  const path = normalize(decodeURIComponent(new URL(request.url, 'http://localhost').pathname)).replace(/^(\\.\\.[/\\\\])+/, '');
  try {
    const file = await readFile(join(import.meta.dirname, path === '/' ? 'index.html' : path));
    response.writeHead(200, { 'content-type': \`\${TYPES[extname(path)] ?? 'text/html'}; charset=utf-8\`, 'cache-control': 'no-cache' }).end(file);
  } catch {
    response.writeHead(404).end('There is no such file.');
  }
}).listen(5180, () => console.log('Open ${STARTER_ORIGIN}'));
`,
    'index.html': `<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Tasks</title>
<link rel="stylesheet" href="app.css">
<main>
  <h1>Tasks</h1>
  <p role="status"></p>
  <form id="entry">
    <label>E-mail address <input name="email" type="email" autocomplete="username" required></label>
    <label>Password <input name="password" type="password" autocomplete="current-password" minlength="8" required></label>
    <button name="how" value="in">Sign in</button> <button name="how" value="up">Sign up</button>
  </form>
  <section id="tasks" hidden>
    <form id="new"><label>What is to be done <input name="text" required></label> <button>Add</button></form>
    <ul></ul>
    ${push ? '<button id="push">Tell me</button> ' : ''}<button id="out">Sign out</button>
  </section>
</main>
<script type="module" src="app.js"></script>
</html>
`,
    'app.css': `:root{color-scheme:light dark}body{font:17px/1.5 system-ui,sans-serif;margin:0}main{max-width:32rem;margin:0 auto;padding:1.5rem}
form{display:grid;gap:.6rem;margin:1rem 0}label{display:grid;gap:.2rem}input,button{font:inherit;padding:.4rem .6rem}
ul{list-style:none;padding:0}li label{display:flex;gap:.6rem;align-items:center}li[data-done=true] span{text-decoration:line-through;opacity:.6}
`,
    'app.js': `import { connect } from './orchard.min.js';

const profile = await (await fetch('orchard-client.json')).json();
const orchard = connect(profile);
const $ = (selector) => document.querySelector(selector);
const say = (text) => { $('[role=status]').textContent = text; };

// Tasks are kept on the device: the list is there without a signal, and what is written goes out when there is one.
await orchard.sync.declare([{ collection: 'tasks' }]);
const tasks = orchard.collection('tasks');

// What is done stays in view, below what is open.
tasks.live({ sort: 'createdAt', limit: 200 }).subscribe(({ items }) => {
  const sorted = [...items].sort((a, b) => Number(a.done ?? false) - Number(b.done ?? false));
  $('ul').replaceChildren(...sorted.map((task) => {
    const item = document.createElement('li');
    const label = document.createElement('label');
    const box = Object.assign(document.createElement('input'), { type: 'checkbox', checked: task.done === true });
    const text = Object.assign(document.createElement('span'), { textContent: task.text });
    box.onchange = () => tasks.change(task.id, { done: box.checked });
    item.dataset.done = String(task.done === true);
    label.append(box, text);
    item.append(label);
    return item;
  }));
});

orchard.sync.state.subscribe(({ pending, failing, connected }) => {
  if (!orchard.user.current) return;
  const problem = failing && failing.why !== 'refused' ? failing.detail : '';
  say(problem || (pending > 0 ? pending + ' waiting' : connected ? 'Up to date' : ''));
});

const show = (user) => {
  $('#entry').hidden = Boolean(user);
  $('#tasks').hidden = !user;
  if (user) orchard.device.register({ appVersion: '1.0.0' }).catch((error) => say(error.message));
};
orchard.user.subscribe(show);
show(orchard.user.current);

$('#entry').onsubmit = async (event) => {
  event.preventDefault();
  const { email, password } = Object.fromEntries(new FormData(event.target));
  try {
    await (event.submitter.value === 'up' ? orchard.signUp({ email, password }) : orchard.signIn(email, password));
    say('');
  } catch (error) {
    say(error.message);
  }
};
$('#new').onsubmit = async (event) => {
  event.preventDefault();
  await tasks.create({ text: new FormData(event.target).get('text'), done: false });
  orchard.events.track('task_added');
  event.target.reset();
};
$('#out').onclick = () => orchard.signOut().catch((error) => say(error.message));
${
  push
    ? `$('#push').onclick = async () => {
  const { why } = await orchard.device.push.enable('orchard-worker.js');
  say(why ?? 'Push is on.');
};
`
    : ''
}`,
  };
}

function nodeStarter(ground: StarterGround): Record<string, string> {
  const { app, environment } = ground;
  return {
    'orchard-client.json': profile(ground),
    'package.json': `${JSON.stringify({ name: `${app}-tasks`, private: true, type: 'module', scripts: { start: 'node main.mjs' } }, null, 2)}\n`,
    'README.md': `# A program on ${app}/${environment}

\`node main.mjs add "Count the bunks"\`, \`node main.mjs\`, \`node main.mjs done 1\`. The first call makes an account for this program, and keeps it in
\`account.json\`; the first task makes the collection \`tasks\`.
`,
    'main.mjs': `import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { connect } from './orchard.js';

const orchard = connect(JSON.parse(readFileSync(new URL('orchard-client.json', import.meta.url), 'utf8')));
const file = new URL('account.json', import.meta.url);
if (existsSync(file)) {
  const { email, password } = JSON.parse(readFileSync(file, 'utf8'));
  await orchard.signIn(email, password);
} else {
  const account = { email: \`program-\${crypto.randomUUID().slice(0, 8)}@starter.example\`, password: crypto.randomUUID() };
  await orchard.signUp({ ...account, name: 'Starter' });
  writeFileSync(file, JSON.stringify(account), { mode: 0o600 });
}

const tasks = orchard.collection('tasks');
const [verb, given] = process.argv.slice(2);
if (verb === 'add') await tasks.create({ text: given ?? 'Count the bunks', done: false });
// Nothing was stored yet, so the collection is not there.
const { items } = await tasks.list({ sort: 'createdAt', limit: 200 }).catch((error) => (error.status === 404 ? { items: [] } : Promise.reject(error)));
if (verb === 'done') {
  const task = items[Number(given) - 1];
  if (!task) throw new Error('There is no task ' + given);
  Object.assign(task, await tasks.change(task.id, { done: true }));
}
for (const [i, { text, done }] of items.entries()) console.log(\`\${i + 1}. [\${done ? 'x' : ' '}] \${text}\`);
if (items.length === 0) console.log('Nothing is to be done. Add something: node main.mjs add "Count the bunks"');
process.exit(0);
`,
  };
}
