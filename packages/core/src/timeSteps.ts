/** Dividing a period into equal steps for a chart. */

const MINUTE = 60_000;
const STEPS_MS = [1, 5, 15, 60, 180, 360, 1440].map((minutes) => minutes * MINUTE);

/** The shortest step that divides the period into at most `most` parts; days at the longest. */
export function chooseStep(fromMs: number, untilMs: number, most = 120): number {
  return STEPS_MS.find((step) => (untilMs - fromMs) / step <= most) ?? (STEPS_MS.at(-1) as number);
}

/** The starts of all steps that touch the period, aligned to UTC. */
export function stepStarts(fromMs: number, untilMs: number, stepMs: number): number[] {
  const starts: number[] = [];
  for (let at = Math.floor(fromMs / stepMs) * stepMs; at < untilMs; at += stepMs) starts.push(at);
  return starts;
}
