/** The page of a way that is tried. It speaks to the team, in the language of the console. */
import type { WaySteps } from '@orchard/contract';
import { signInTexts } from '@orchard/core/accounts';
import type { Response } from 'express';
import { escaped, frame, hashOf, sendHtml, type Shown, styleOf } from './page.js';

/** What is about to happen, or each step's answer. */
export type TrialPage = {
  title: string;
  /** Null before the visit. */
  steps: WaySteps['steps'] | null;
  /** Where it goes on: to the provider, or to another try. */
  next: string;
  /** What the provider has to list. */
  redirectAddress: string | null;
};

/** Sends the page. @param shown the look of the environment's pages */
export function sendTrial(response: Response, shown: Shown, trial: TrialPage): void {
  const { texts } = signInTexts(['en']);
  const policy = `default-src 'none'; img-src 'self'; style-src ${hashOf(styleOf(shown.colour))}; frame-ancestors 'none'; base-uri 'none'`;
  sendHtml(response, 200, frame(shown, 'en', texts, `Trying “${trial.title}”`, trialView(trial)), policy);
}

function trialView({ steps, next, redirectAddress }: TrialPage): string {
  const onward = (text: string) => `<a class="way go" href="${escaped(next)}">${text}</a>`;
  if (steps === null)
    return `<p>Sign in at the provider as a made-up person. Nobody is signed in here by it, and nothing is kept.</p>
<p>If the provider shows an error instead of its sign-in, this redirect address is probably not listed there:</p><p><code>${escaped(redirectAddress ?? '')}</code></p>${onward('Go to the provider')}`;
  const rows = steps.map(
    ({ what, ok, text }) => `<dt${ok ? '' : ' class="care"'}>${ok ? '✓' : '✗'} ${escaped(what)}</dt><dd>${escaped(text)}</dd>`,
  );
  const works = steps.every(({ ok }) => ok);
  const verdict = works
    ? 'The way works. Nobody was signed in, and nothing was kept.'
    : 'The way does not work yet. Fix the step that failed, then try again.';
  return `<p${works ? '' : ' class="care"'} role="status">${verdict}</p><dl>${rows.join('')}</dl>${onward('Try again')}`;
}
