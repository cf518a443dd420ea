/** The moment a page shows: now, or a time in the past that can be played back. */
import { ActionIcon, Button, Group, Slider, TextInput } from '@mantine/core';
import { IconPlayerPause, IconPlayerPlay } from '@tabler/icons-react';
import { useEffect, useState } from 'react';
import { useAddressState } from '../environment.js';

/** Steps in which a period is played back, and how long each is shown. */
const STEPS = 144;
const SHOWN_MS = 900;

export function useMoment() {
  const [text, set] = useAddressState('at');
  const at = Date.parse(text);
  return {
    /** Null for now. */
    at: Number.isNaN(at) ? null : at,
    set: (time: number | null) => set(time === null ? null : new Date(time).toISOString()),
  };
}

/** Local time as the field takes it. */
const stamp = (ms: number): string => {
  const pad = (number: number) => String(number).padStart(2, '0');
  const date = new Date(ms);
  return `${date.getFullYear()}-${pad(date.getMonth() + 1)}-${pad(date.getDate())}T${pad(date.getHours())}:${pad(date.getMinutes())}:${pad(date.getSeconds())}`;
};

export function MomentControl({ moment: { at, set }, from, until }: { moment: ReturnType<typeof useMoment>; from: number; until: number }) {
  const [isPlaying, setPlaying] = useState(false);
  const stepMs = Math.max(10_000, Math.round((until - from) / STEPS / 10_000) * 10_000);
  useEffect(() => {
    if (!isPlaying || at === null) return;
    const timer = setTimeout(() => {
      if (at + stepMs >= until) setPlaying(false);
      set(Math.min(at + stepMs, until));
    }, SHOWN_MS);
    return () => clearTimeout(timer);
  }, [isPlaying, at, stepMs, until, set]);
  const play = () => {
    if (at === null || at + stepMs >= until) set(from);
    setPlaying(!isPlaying);
  };
  return (
    <Group gap="sm" align="center" wrap="nowrap">
      <ActionIcon variant="default" onClick={play} aria-label={isPlaying ? 'Pause' : 'Play the period back'} title="Play the period back">
        {isPlaying ? <IconPlayerPause size={16} /> : <IconPlayerPlay size={16} />}
      </ActionIcon>
      <Slider
        style={{ flex: 1, minWidth: 160 }}
        min={from}
        max={until}
        step={stepMs}
        value={at ?? until}
        onChange={(value) => set(value)}
        label={null}
        thumbLabel="Time shown"
        size="sm"
      />
      <TextInput
        type="datetime-local"
        step={1}
        size="xs"
        w={205}
        aria-label="How was it at"
        title="How was it at this time"
        value={at === null ? '' : stamp(at)}
        onChange={({ currentTarget: { value } }) => {
          setPlaying(false);
          set(value ? new Date(value).getTime() : null);
        }}
      />
      {at !== null && (
        <Button size="xs" variant="light" onClick={() => (setPlaying(false), set(null))}>
          Now
        </Button>
      )}
    </Group>
  );
}
