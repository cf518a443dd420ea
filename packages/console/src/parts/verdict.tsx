/** A word with a symbol; the full sentence appears on hover and focus instead of in every row. */
import { Tooltip } from '@mantine/core';
import { IconCircleCheck, IconCircleDashed } from '@tabler/icons-react';

export function Verdict({
  well,
  yes = 'yes',
  no = 'no',
  because,
}: {
  well: boolean;
  yes?: string;
  no?: string;
  because?: string | null | undefined;
}) {
  const Icon = well ? IconCircleCheck : IconCircleDashed;
  const word = (
    <span className={well ? 'verdict' : 'verdict care'}>
      <Icon size={15} aria-hidden />
      {well ? yes : no}
    </span>
  );
  if (well || !because) return word;
  return (
    <Tooltip label={because} multiline maw={380} events={{ hover: true, focus: true, touch: true }}>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: the reason must be reachable by keyboard */}
      <span tabIndex={0} role="note" aria-label={`${no}: ${because}`}>
        {word}
      </span>
    </Tooltip>
  );
}
