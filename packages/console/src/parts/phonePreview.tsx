/** How a notification will look on a phone, in our own drawing. */
import { Text } from '@mantine/core';
import { IconLeaf } from '@tabler/icons-react';

export function PhonePreview({ title, body, badge }: { title: string; body: string; badge: number | null }) {
  return (
    <figure style={{ margin: 0, maxWidth: 340 }} aria-label="Preview on a phone">
      <div style={{ border: '2px solid var(--mantine-color-text)', borderRadius: 30, padding: 10, background: 'var(--raised)' }}>
        <div
          style={{
            borderRadius: 22,
            minHeight: 360,
            background: 'linear-gradient(165deg, #dfe9e2, #cfdde2 55%, #e9dccb)',
            color: '#1d2a2b',
            padding: 14,
          }}
        >
          <div style={{ display: 'flex', alignItems: 'center', gap: 12, marginBottom: 16 }}>
            <span
              style={{
                position: 'relative',
                width: 48,
                height: 48,
                borderRadius: 12,
                background: '#1f7a6d',
                display: 'grid',
                placeItems: 'center',
              }}
            >
              <IconLeaf size={30} stroke={1.6} color="#fbf8f2" aria-hidden />
              {badge !== null && badge > 0 && (
                <span
                  style={{
                    position: 'absolute',
                    top: -7,
                    right: -7,
                    background: '#b8401d',
                    color: '#fff',
                    borderRadius: 12,
                    padding: '0 6px',
                    fontSize: 13,
                    fontWeight: 600,
                  }}
                >
                  {badge}
                </span>
              )}
            </span>
            <span style={{ fontWeight: 600 }}>your app</span>
          </div>
          <div
            style={{
              background: 'rgb(255 255 255 / .88)',
              borderLeft: '3px solid #1f7a6d',
              borderRadius: 8,
              padding: '10px 12px',
              overflowWrap: 'anywhere',
            }}
          >
            <div style={{ fontWeight: 600 }}>{title || 'Title'}</div>
            <div style={{ whiteSpace: 'pre-wrap' }}>{body || 'Body'}</div>
          </div>
        </div>
      </div>
      <Text component="figcaption" size="sm" c="dimmed" mt={6}>
        Each platform draws it in its own way; a long body is cut.
      </Text>
    </figure>
  );
}
