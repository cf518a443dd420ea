/** A list that is put in order by drag, or by keyboard: Space lifts an item, arrows move it, Space drops it. */
import {
  type Announcements,
  closestCenter,
  DndContext,
  type DragEndEvent,
  KeyboardSensor,
  PointerSensor,
  useSensor,
  useSensors,
} from '@dnd-kit/core';
import { arrayMove, SortableContext, sortableKeyboardCoordinates, useSortable, verticalListSortingStrategy } from '@dnd-kit/sortable';
import { CSS } from '@dnd-kit/utilities';
import { ActionIcon, Group, Text } from '@mantine/core';
import { IconGripVertical, IconX } from '@tabler/icons-react';
import { type ReactNode, useEffect, useState } from 'react';

type Item = { id: string; label: string };
type Props = {
  items: Item[];
  onOrder: (ids: string[]) => void;
  onRemove: (id: string) => void;
  /** What else can be set of an item. */
  control: (id: string) => ReactNode;
};

export function Arranging({ items, onOrder, onRemove, control }: Props) {
  // Shown at once in its new order, before the service has answered.
  const [shown, setShown] = useState(items);
  const known = JSON.stringify(items);
  useEffect(() => setShown(JSON.parse(known)), [known]);
  const sensors = useSensors(useSensor(PointerSensor), useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }));
  const drop = ({ active, over }: DragEndEvent) => {
    if (!over || active.id === over.id) return;
    const place = (id: unknown) => shown.findIndex((one) => one.id === id);
    const next = arrayMove(shown, place(active.id), place(over.id));
    setShown(next);
    onOrder(next.map(({ id }) => id));
  };
  const labelOf = (id: unknown) => shown.find((one) => one.id === id)?.label ?? '';
  const placeOf = (id: unknown) => `place ${shown.findIndex((one) => one.id === id) + 1} of ${shown.length}`;
  const announcements: Announcements = {
    onDragStart: ({ active }) => `Lifted ${labelOf(active.id)}.`,
    onDragOver: ({ active, over }) => (over ? `${labelOf(active.id)} is over ${placeOf(over.id)}.` : undefined),
    onDragEnd: ({ active, over }) => `Dropped ${labelOf(active.id)}${over ? ` at ${placeOf(over.id)}` : ''}.`,
    onDragCancel: ({ active }) => `${labelOf(active.id)} stays where it was.`,
  };
  return (
    <DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={drop} accessibility={{ announcements }}>
      <SortableContext items={shown} strategy={verticalListSortingStrategy}>
        {shown.map((item) => (
          <Row key={item.id} of={item} onRemove={onRemove}>
            {control(item.id)}
          </Row>
        ))}
      </SortableContext>
    </DndContext>
  );
}

function Row({ of: { id, label }, onRemove, children }: { of: Item; onRemove: (id: string) => void; children: ReactNode }) {
  const { attributes, listeners, setNodeRef, transform, transition } = useSortable({ id });
  return (
    <Group
      ref={setNodeRef}
      style={{ transform: CSS.Translate.toString(transform), transition }}
      className="arranged"
      gap="sm"
      wrap="nowrap"
    >
      <ActionIcon variant="subtle" color="gray" {...attributes} {...listeners} aria-label={`Move ${label}`}>
        <IconGripVertical size={16} />
      </ActionIcon>
      <Text size="sm" style={{ flex: 1 }}>
        {label}
      </Text>
      {children}
      <ActionIcon variant="subtle" color="gray" aria-label={`Take ${label} off`} onClick={() => onRemove(id)}>
        <IconX size={16} />
      </ActionIcon>
    </Group>
  );
}
