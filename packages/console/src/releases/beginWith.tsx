/** What a new app or environment begins with; its difference is shown before it is applied. */
import { NativeSelect } from '@mantine/core';
import { SETUP_TEMPLATES } from '@orchard/contract';
import { setupTemplate } from '@orchard/core';

/** @param from an environment whose setup may be taken over @param onChange told the source, as the page Releases has it in its address */
export function BeginWith({ value, onChange, from }: { value: string; onChange: (source: string) => void; from?: string }) {
  return (
    <NativeSelect
      label="Begin with"
      value={value}
      onChange={({ currentTarget }) => onChange(currentTarget.value)}
      data={[
        { value: '', label: 'Nothing yet' },
        ...(from ? [{ value: `from:${from}`, label: `What ${from} has` }] : []),
        ...SETUP_TEMPLATES.filter((name) => name !== 'blank').map((name) => ({
          value: `template:${name}`,
          label: setupTemplate(name).title,
        })),
      ]}
    />
  );
}
