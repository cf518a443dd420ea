/** A real Chromium for the console's tests. */
import { readdirSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { type Browser, type BrowserContext, chromium, type Page } from 'playwright-core';
import { OWNER } from '../../service/test/support.js';

const FLAGS = [
  '--headless',
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
];
const AXE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

/** @param more flags, such as those for a made-up camera */
export const openBrowser = (...more: string[]): Promise<Browser> =>
  chromium.launch({ executablePath: '/usr/bin/chromium', args: [...FLAGS, ...more] });

/** A Chromium of its own, whose storage is in a directory and outlives it. */
export const openProfile = (directory: string): Promise<BrowserContext> =>
  chromium.launchPersistentContext(directory, { executablePath: '/usr/bin/chromium', args: FLAGS, viewport: { width: 420, height: 800 } });

/** Processes whose Chromium keeps its storage in a directory. */
const chromiumsOf = (directory: string): number[] =>
  readdirSync('/proc')
    .filter((name) => /^\d+$/.test(name))
    .filter((pid) => {
      try {
        return readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes(`--user-data-dir=${directory}`);
      } catch {
        return false; // It has ended by itself.
      }
    })
    .map(Number);

/** Ends the Chromium of a directory as a phone that runs out of power does. */
export async function killChromium(directory: string): Promise<void> {
  for (let pids = chromiumsOf(directory); pids.length > 0; pids = chromiumsOf(directory)) {
    for (const pid of pids) {
      try {
        process.kill(pid, 'SIGKILL');
      } catch {
        // It has ended by itself.
      }
    }
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}

export async function openPage(browser: Browser): Promise<Page> {
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, reducedMotion: 'reduce' });
  page.setDefaultTimeout(30_000);
  return page;
}

/** Signs the owner in, as a person does. */
export async function signIn(page: Page, address: string): Promise<void> {
  await page.goto(`${address}/sign-in`);
  await page.getByLabel('E-mail address').fill(OWNER.email);
  await page.locator('input[type=password]').fill(OWNER.password);
  await page.getByRole('button', { name: 'Sign in', exact: true }).click();
  await page.getByRole('heading', { name: 'Apps' }).waitFor();
}

/** Goes to another page of the console as a link does: without loading the console anew. */
export async function show(page: Page, path: string): Promise<void> {
  await page.evaluate((to) => {
    // A page stays until the next one's code is there; its head is not taken for that of the next.
    if (new URL(to, location.href).pathname !== location.pathname) document.querySelector('h1')?.setAttribute('data-left', '');
    history.pushState(null, '', to);
    dispatchEvent(new PopStateEvent('popstate'));
  }, path);
  await page.locator('h1[data-left]').waitFor({ state: 'detached' });
}

const WCAG = { type: 'tag', values: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] };
/** The one rule whose answer depends on the scheme. */
const CONTRAST = { type: 'rule', values: ['color-contrast'] };

/** What the accessibility rules of WCAG 2.1 A and AA find wrong with a page. @param rules all, or those of colours alone */
export async function violations(on: Page, rules: 'all' | 'colours' = 'all'): Promise<string[]> {
  if (!(await on.evaluate(() => 'axe' in globalThis))) await on.evaluate(AXE);
  type Axe = { run: (options: object) => Promise<{ violations: { id: string; nodes: { html: string }[] }[] }> };
  const { violations: found } = await on.evaluate(
    (runOnly) => (globalThis as unknown as { axe: Axe }).axe.run({ runOnly, resultTypes: ['violations'] }),
    rules === 'all' ? WCAG : CONTRAST,
  );
  return found.map(({ id, nodes }) => `${id}: ${nodes.map(({ html }) => html.slice(0, 120)).join(' | ')}`);
}

/** Chromium's own authenticator, which unlocks by itself. */
export async function withAuthenticator(page: Page): Promise<void> {
  const session = await page.context().newCDPSession(page);
  await session.send('WebAuthn.enable');
  await session.send('WebAuthn.addVirtualAuthenticator', {
    options: {
      protocol: 'ctap2',
      transport: 'internal',
      hasResidentKey: true,
      hasUserVerification: true,
      isUserVerified: true,
      automaticPresenceSimulation: true,
    },
  });
}
