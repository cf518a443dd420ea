/** Free text beside the filter; the address follows when the reader pauses. */
import { TextInput } from '@mantine/core';
import { useDebouncedCallback } from '@mantine/hooks';
import { IconSearch } from '@tabler/icons-react';
import { useState } from 'react';
import { useAddressState } from '../environment.js';

export function FreeText({ placeholder }: { placeholder: string }) {
  const [text, setText] = useAddressState('text');
  const [typed, setTyped] = useState(text);
  const apply = useDebouncedCallback(setText, 350);
  return (
    <TextInput
      size="xs"
      mb="xs"
      maw={420}
      aria-label="Free text"
      placeholder={placeholder}
      leftSection={<IconSearch size={14} />}
      value={typed}
      onChange={({ currentTarget }) => {
        setTyped(currentTarget.value);
        apply(currentTarget.value || null);
      }}
    />
  );
}
