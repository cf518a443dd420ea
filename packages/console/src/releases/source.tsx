/** What a setup is compared with: another environment, a file, a template, or what was there before a release. */
import { FileInput, Group, NativeSelect, Text } from '@mantine/core';
import { type BodyInputOf, operations, SETUP_TEMPLATES } from '@orchard/contract';
import { setupTemplate } from '@orchard/core';
import { parse } from 'yaml';
import { useState } from 'react';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';

export type Source = BodyInputOf<(typeof operations)['setups']['compare']>;

/** The source that the address names, apart from a file, which an address cannot hold. */
export function useSource(): {
  source: Source | null;
  chosen: string;
  choose: (value: string) => void;
  take: (setup: Source['setup']) => void;
} {
  const [chosen, setChosen] = useAddressState('with');
  const [file, setFile] = useState<Source['setup']>();
  const [kind, ...rest] = chosen.split(':');
  const value = rest.join(':');
  const [app = '', environment = ''] = value.split('/');
  const named: { [kind: string]: Source | null } = {
    from: app && environment ? { from: { app, environment } } : null,
    template: SETUP_TEMPLATES.includes(value as never) ? { template: value as never } : null,
    before: value ? { release: value } : null,
    file: file ? { setup: file } : null,
  };
  return {
    source: named[kind ?? ''] ?? null,
    chosen,
    choose: (next) => setChosen(next || null),
    take: (setup) => {
      setFile(setup);
      setChosen('file:');
    },
  };
}

export function SourceChoice({ chosen, choose, take }: Omit<ReturnType<typeof useSource>, 'source'>) {
  const { params } = useEnvironment();
  const apps = useCall(operations.apps.list, {});
  const [fault, setFault] = useState('');
  const others = (apps.data?.items ?? []).flatMap((app) =>
    app.environments
      .filter(({ name }) => app.name !== params.app || name !== params.environment)
      .map(({ name }) => ({ value: `from:${app.name}/${name}`, label: `${app.name}/${name}` })),
  );
  const read = async (file: File | null) => {
    if (!file) return;
    try {
      const setup = parse(await file.text(), { maxAliasCount: 100, uniqueKeys: true });
      if ('files' in setup) throw new Error('It is split into several files: apply it with `orchard setup apply`.');
      setFault('');
      take(setup);
    } catch (error) {
      setFault(`${file.name} cannot be read: ${(error as Error).message}`);
    }
  };
  return (
    <>
      <Group align="end">
        <NativeSelect
          label="Compare with"
          w="22rem"
          value={chosen}
          onChange={({ currentTarget }) => choose(currentTarget.value)}
          data={[
            { value: '', label: 'Choose …' },
            { group: 'Another environment', items: others },
            {
              group: 'A template',
              items: SETUP_TEMPLATES.map((name) => ({ value: `template:${name}`, label: setupTemplate(name).title })),
            },
            ...(chosen.startsWith('before:') ? [{ value: chosen, label: 'As it was before a release' }] : []),
            ...(chosen === 'file:' ? [{ value: chosen, label: 'A setup file' }] : []),
          ]}
        />
        <FileInput
          w="14rem"
          label="or a setup file"
          placeholder="orchard.yaml"
          accept=".yaml,.yml,.json"
          onChange={(file) => void read(file)}
        />
      </Group>
      {fault && (
        <Text className="care" role="alert">
          {fault}
        </Text>
      )}
    </>
  );
}
