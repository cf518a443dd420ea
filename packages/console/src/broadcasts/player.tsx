/** The live picture of a broadcast. */
import { Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import Hls from 'hls.js';
import { useEffect, useRef, useState } from 'react';
import { api, describeError } from '../api.js';
import { useEnvironment } from '../environment.js';

/** How far behind the edge it plays, in segments: as near as one can without stopping. */
const BEHIND = 2;
const AGAIN_MS = 1_500;

export function Player({ id, label }: { id: string; label: string }) {
  const { params } = useEnvironment();
  const { app, environment } = params;
  const video = useRef<HTMLVideoElement>(null);
  const [trouble, setTrouble] = useState<string | null>(null);
  const [latencyS, setLatency] = useState<number | null>(null);
  useEffect(() => {
    const hls = new Hls({ liveSyncDurationCount: BEHIND, liveMaxLatencyDurationCount: 6, enableWorker: false, lowLatencyMode: false });
    let again: ReturnType<typeof setTimeout> | undefined;
    let left = false;
    hls.on(Hls.Events.ERROR, (_event, { fatal, details }) => {
      if (!fatal || left) return;
      setTrouble(`Nothing can be shown yet (${details}).`);
      again = setTimeout(() => hls.startLoad(-1), AGAIN_MS);
    });
    hls.on(Hls.Events.FRAG_BUFFERED, () => {
      setTrouble(null);
      setLatency(hls.latency > 0 ? hls.latency : null);
    });
    api
      .call(operations.managedBroadcasts.open, { params: { app, environment, id } })
      .then(({ address }) => {
        if (left || !video.current) return;
        hls.loadSource(new URL(address).pathname);
        hls.attachMedia(video.current);
      })
      .catch((error: unknown) => setTrouble(describeError(error)));
    return () => {
      left = true;
      clearTimeout(again);
      hls.destroy();
    };
  }, [id, app, environment]);
  return (
    <div>
      <video ref={video} className="preview" controls muted autoPlay playsInline aria-label={label} style={{ width: '100%' }} />
      <Text size="xs" c="dimmed" role="status">
        {trouble ?? (latencyS === null ? ' ' : `${latencyS.toFixed(1)} s behind`)}
      </Text>
    </div>
  );
}
