/** The head of a plain table. */
import { VisuallyHidden } from '@mantine/core';

/** A column by its head: of text, of numbers on the right, or of buttons, whose head only screen readers tell. */
type Head = string | { right: string } | { hidden: string };

export function TableHead({ columns }: { columns: readonly Head[] }) {
  return (
    <thead>
      <tr>
        {columns.map((head) => {
          if (typeof head === 'string')
            return (
              <th key={head} scope="col">
                {head}
              </th>
            );
          if ('right' in head)
            return (
              <th key={head.right} scope="col" className="right">
                {head.right}
              </th>
            );
          return (
            <th key={head.hidden} scope="col">
              <VisuallyHidden>{head.hidden}</VisuallyHidden>
            </th>
          );
        })}
      </tr>
    </thead>
  );
}
