/** The steps of a call as bars over its duration. */
import type { RequestDetail } from '@orchard/contract';
import { milliseconds } from '../parts/format.js';

/** What a step does, for people who do not know the service from inside. */
const STEP_WORDS: Record<string, string> = {
  rate: 'rate limit',
  key: 'key',
  origin: 'origin',
  rights: 'rights',
  user: 'user',
  member: 'member',
  body: 'reading the body',
  checks: 'checking the input',
  confirmation: 'confirmation',
  handler: 'handler',
  statement: 'database',
  writing: 'writing the response',
};

export function Timeline({ of: { timeline, durationMs } }: { of: Pick<RequestDetail, 'timeline' | 'durationMs'> }) {
  const all = Math.max(durationMs * 1000, 1);
  return (
    <ul className="timeline" aria-label="Timeline">
      {timeline.map(({ step, startUs, durationUs, detail }, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: two steps can be alike in everything
        <li key={i} data-step={step === 'statement' ? 'statement' : undefined}>
          <span>{detail ?? STEP_WORDS[step] ?? step}</span>
          <span className="track" aria-hidden="true">
            <i
              style={{
                left: `${(startUs / all) * 100}%`,
                width: `max(2px, ${Math.min(100 - (startUs / all) * 100, (durationUs / all) * 100)}%)`,
              }}
            />
          </span>
          <span className="mono right">{milliseconds(durationUs / 1000)}</span>
        </li>
      ))}
    </ul>
  );
}
