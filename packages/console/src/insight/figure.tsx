/** One number of a page, with how it changed, and how it is counted on hover. */
import { Text, Tooltip } from '@mantine/core';
import { changeOf, figureWords } from '@orchard/contract';
import type { Figure as FigureOf } from '@orchard/core';

export function Figure({
  of,
  how,
  text,
  aDay,
}: {
  of: FigureOf;
  /** How it is counted. */
  how: string;
  /** Instead of the value in its unit. */
  text?: string;
  /** Its mean of the days that are over. */
  aDay?: number | null;
}) {
  const change = changeOf(of);
  return (
    <Tooltip label={how} multiline w={260} position="bottom-start">
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: the tooltip is read by keyboard, too */}
      <div tabIndex={0}>
        <Text size="sm" c="dimmed">
          {of.label}
        </Text>
        <div className="number">{text ?? figureWords(of.unit, of.value)}</div>
        {aDay !== undefined && <Text size="sm">{figureWords(of.unit, aDay)} a day</Text>}
        {change && (
          <Text size="sm" className={change.isWorse ? 'care' : undefined} c={change.isWorse ? undefined : 'dimmed'}>
            {change.text}
          </Text>
        )}
      </div>
    </Tooltip>
  );
}
