/** The sheet of the environment, and those of the team's own: which one is shown, and how a new one begins. */
import { Anchor, Group } from '@mantine/core';
import { operations } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { NavLink, useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Trouble } from '../parts/basics.js';

const own = operations.sheets;

export function SheetTabs() {
  const { params, base, details } = useEnvironment();
  const navigate = useNavigate();
  const sheets = useCall(own.list, { params });
  const add = useChange(own.add);
  const items = sheets.data?.items ?? [];
  const begin = () =>
    add.mutate(
      { params, body: { name: freeName(items.map(({ name }) => name)), items: [] } },
      { onSuccess: ({ id }) => navigate(`${base}/sheets/${id}?arrange=1`) },
    );
  return (
    <>
      <Trouble error={add.error} />
      <Group component="nav" aria-label="Sheets" gap="lg" className="sheet-tabs screen-only">
        <NavLink to={`${base}/sheet`}>This environment</NavLink>
        {items.map(({ id, name }) => (
          <NavLink key={id} to={`${base}/sheets/${id}`}>
            {name}
          </NavLink>
        ))}
        {details?.role !== 'viewer' && (
          <Anchor component="button" size="sm" onClick={begin} disabled={add.isPending}>
            <IconPlus size={14} aria-hidden /> New sheet
          </Anchor>
        )}
      </Group>
    </>
  );
}

function freeName(taken: readonly string[]): string {
  for (let number = 1; ; number++) {
    const name = number === 1 ? 'New sheet' : `New sheet ${number}`;
    if (!taken.includes(name)) return name;
  }
}
