// npm run printed: runs the `console` blocks of the README and the docs against a fresh demo, and writes what came back
// under each command. With --check it changes nothing and fails where the printed output has another shape than the
// real one (numbers, ids and widths of columns may differ). --demo DIR takes a demo that runs already, on its data.
//
// A command is a line that begins with "$ ", with the lines that continue it. What has to be done by hand before a
// block stands above it as a comment: <!-- run: commands -->.
import { spawn, spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync, symlinkSync, mkdirSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { needBuild, needDebian, needNode, needPackages, root } from './prepare.mjs';

const FILES = ['README.md', 'docs/gateways.md', 'docs/team.md'];
const WRITTEN_PORT = 7450;
const WIDTH = 140;
const BLOCK = /(?:<!-- run: (?<before>[\s\S]*?) -->\n+)?```console\n(?<body>[\s\S]*?)```\n/g;
const BOUNDARY = '=== the next command ===';

const { values: options } = parseArgs({ options: { check: { type: 'boolean', default: false }, demo: { type: 'string' } } });

/** @returns the commands of a block, each as it is written, with `$ ` and its continued lines */
function commandsOf(body) {
  const commands = [];
  let continues = false;
  for (const line of body.split('\n')) {
    if (continues) commands.push(`${commands.pop()}\n${line}`);
    else if (line.startsWith('$ ')) commands.push(line);
    continues = (continues || line.startsWith('$ ')) && line.endsWith('\\');
  }
  return commands;
}

/** Breaks long lines at spaces, as the documents are. */
function wrap(line) {
  if (line.length <= WIDTH) return line;
  const at = line.lastIndexOf(' ', WIDTH);
  return at < 1 ? line : `${line.slice(0, at)}\n${wrap(line.slice(at + 1))}`;
}

/** A directory with an `npx` that starts our command without npm, which takes longer than the command; the first goes the long way. */
function quickNpx(directory) {
  const bin = join(directory, 'bin');
  mkdirSync(bin, { recursive: true });
  const real = spawnSync('sh', ['-c', 'command -v npx'], { encoding: 'utf8' }).stdout.trim();
  const lines = [
    '#!/bin/sh',
    `if [ "$1" = orchard ] && [ -e '${bin}/tried' ]; then shift; exec '${process.execPath}' '${join(root, 'packages/cli/bin/orchard.js')}' "$@"; fi`,
    `touch '${bin}/tried'`,
    `exec '${real}' "$@"`,
  ];
  writeFileSync(join(bin, 'npx'), `${lines.join('\n')}\n`, { mode: 0o755 });
  return bin;
}

/** Runs all blocks of a document in one shell, as somebody who follows it would. @returns each command's output */
function runAll(blocks, place) {
  const toReal = (text) => text.replace(/\b745([0-7])\b/g, (_, step) => String(place.port + Number(step)));
  const toWritten = (text) =>
    text.replace(/\b\d{4,5}\b/g, (digits) => {
      const step = Number(digits) - place.port;
      return step >= 0 && step < 8 ? String(WRITTEN_PORT + step) : digits;
    });
  const steps = blocks.flatMap(({ before, commands }) => [
    before ? `{ ${before}\n} >/dev/null` : ':',
    ...commands.map((command) => `echo '${BOUNDARY}'\n${command.slice(2)}`),
  ]);
  const { stdout, status } = spawnSync('bash', ['-c', `exec 2>&1\n${toReal(steps.join('\n'))}`], {
    cwd: place.directory,
    env: {
      ...process.env,
      PATH: `${quickNpx(place.directory)}:${process.env.PATH}`,
      XDG_CONFIG_HOME: join(place.directory, 'config'),
      npm_config_update_notifier: 'false',
    },
    encoding: 'utf8',
    timeout: 300_000,
  });
  if (status === null) throw new Error('The commands did not end within five minutes.');
  const isNoise = (line) => line.startsWith('npm warn');
  return stdout
    .split(`${BOUNDARY}\n`)
    .slice(1)
    .map((output) =>
      toWritten(output)
        .split(/\r?\n/)
        .filter((line) => !isNoise(line))
        .map((line) => wrap(line.trimEnd()))
        .join('\n')
        .trimEnd(),
    );
}

/** What stays the same from run to run: words, not numbers, ids or widths. */
const shapeOf = (text) =>
  text
    .replace(/[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}/g, '#')
    .replace(/\d+(\.\d+)?/g, '#')
    .replace(/\s+/g, ' ')
    .trim();

function refresh(file, place) {
  const text = readFileSync(join(root, file), 'utf8');
  const blocks = [...text.matchAll(BLOCK)].map(({ groups }) => ({
    before: groups.before,
    body: groups.body,
    commands: commandsOf(groups.body),
  }));
  const outputs = runAll(blocks, place);
  const bodies = blocks.map(({ commands }) => commands.map((command) => [command, outputs.shift()].filter(Boolean).join('\n')).join('\n'));
  if (!options.check) {
    const next = () => `\`\`\`console\n${bodies.shift()}\n\`\`\`\n`;
    writeFileSync(
      join(root, file),
      text.replace(BLOCK, (block) => block.replace(/```console\n[\s\S]*$/, next)),
    );
    return [];
  }
  return blocks.flatMap(({ body }, index) =>
    shapeOf(body) === shapeOf(bodies[index]) ? [] : [`${file} prints\n\n${body}\nand what comes is\n\n${bodies[index]}\n`],
  );
}

/** A directory that looks like this one to who follows the documents, with the demo's data where they look for it. */
function layOut(data) {
  const directory = mkdtempSync(join(tmpdir(), 'orchard-printed-'));
  for (const name of ['node_modules', 'packages', 'package.json']) symlinkSync(join(root, name), join(directory, name));
  mkdirSync(join(directory, '.orchard'));
  symlinkSync(data, join(directory, '.orchard/demo'));
  return { directory, port: Number(new URL(JSON.parse(readFileSync(join(data, 'demo.json'), 'utf8')).url).port) };
}

function startDemo(data) {
  const args = [join(root, 'packages/demo/dist/main.js'), '--port', '7550', '--data', data];
  const child = spawn(process.execPath, args, { stdio: ['ignore', 'pipe', 'inherit'] });
  return new Promise((resolve, reject) => {
    let said = '';
    child.stdout.on('data', (chunk) => {
      said += chunk;
      if (said.includes('Ctrl-C stops')) resolve(child);
    });
    child.once('exit', (code) => reject(new Error(`The demo ended with ${code}.\n${said}`)));
  });
}
const end = (child) =>
  new Promise((resolve) => {
    child.removeAllListeners('exit').once('exit', resolve);
    child.kill('SIGINT');
  });

needNode();
needDebian({ mariadbd: 'mariadb-server', curl: 'curl' });
needPackages();
needBuild();
const data = options.demo ?? mkdtempSync(join(tmpdir(), 'orchard-printed-data-'));
const demo = options.demo ? null : await startDemo(data);
const place = layOut(data);
try {
  const differences = FILES.flatMap((file) => refresh(file, place));
  for (const difference of differences) console.error(difference);
  if (differences.length > 0) {
    console.error('`npm run printed` writes what comes now.');
    process.exitCode = 1;
  }
} finally {
  if (demo) await end(demo);
  rmSync(place.directory, { recursive: true, force: true });
  if (!options.demo) rmSync(data, { recursive: true, force: true });
}
