/** One part of what is shown about a person. */
import { Title } from '@mantine/core';
import type { ReactNode } from 'react';

export function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="panel" aria-label={title}>
      <Title order={3} mb={4}>
        {title}
      </Title>
      {children}
    </section>
  );
}
