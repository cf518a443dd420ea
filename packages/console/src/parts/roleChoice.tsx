/** One role to give: in an environment of an app, or in all of them. */
import { Group, Select, Text } from '@mantine/core';
import type { UseFormReturnType } from '@mantine/form';
import { type App, ROLE_SENTENCES, ROLES } from '@orchard/contract';
import type { ChosenRole } from './role.js';

export function RoleChoice<Values extends ChosenRole>({ form, apps }: { form: UseFormReturnType<Values>; apps: App[] }) {
  const { getInputProps, values } = form;
  const environments = apps.find(({ name }) => name === values.app)?.environments ?? [];
  return (
    <>
      <Group grow align="flex-start">
        <Select label="App" data={apps.map(({ name }) => name)} allowDeselect={false} {...getInputProps('app')} />
        <Select
          label="Environment"
          data={[{ value: '', label: 'all' }, ...environments.map(({ name }) => ({ value: name, label: name }))]}
          allowDeselect={false}
          {...getInputProps('environment')}
        />
        <Select label="Role" data={[...ROLES]} allowDeselect={false} {...getInputProps('role')} />
      </Group>
      <Text size="sm" c="dimmed">
        {ROLE_SENTENCES[values.role]}
      </Text>
    </>
  );
}
