/** How a notification will look on phones of each platform, in our own drawing. */
import { Group, SegmentedControl, Text } from '@mantine/core';
import { type ContentSet, contentFor, type NotificationContent, type Variant } from '@orchard/core/messages';
import { IconBellRinging, IconLeaf, IconX } from '@tabler/icons-react';
import { useState } from 'react';

const PLATFORMS = { ios: 'iOS', android: 'Android', web: 'Web' } as const;
type Platform = keyof typeof PLATFORMS;
/** About how many characters of the body a platform shows before it truncates. */
const SHOWN: Record<Platform, number> = { ios: 178, android: 240, web: 120 };

/** Each variant of a content on each platform, chosen by the same rules as for delivery. */
export function PhonePreviews({ content, appName }: { content: ContentSet; appName: string }) {
  const [platform, setPlatform] = useState<Platform>('ios');
  const [locale, setLocale] = useState('');
  const [variant, setVariant] = useState<Variant>('a');
  const languages = Object.keys(content.locales ?? {});
  const chosen = contentFor(content, platform, languages.includes(locale) ? locale : '', content.second ? variant : 'a');
  const body = chosen.body ?? '';
  const cut = body.length > SHOWN[platform];
  return (
    <figure style={{ margin: 0, maxWidth: 360 }} aria-label={`Preview on ${PLATFORMS[platform]}`}>
      <Group gap="xs" mb={8}>
        <SegmentedControl
          size="xs"
          aria-label="Platform of the preview"
          value={platform}
          onChange={(value) => setPlatform(value as Platform)}
          data={Object.entries(PLATFORMS).map(([value, label]) => ({ value, label }))}
        />
        {languages.length > 0 && (
          <SegmentedControl
            size="xs"
            aria-label="Language of the preview"
            value={languages.includes(locale) ? locale : ''}
            onChange={setLocale}
            data={[{ value: '', label: 'others' }, ...languages.map((tag) => ({ value: tag, label: tag }))]}
          />
        )}
        {content.second && (
          <SegmentedControl
            size="xs"
            aria-label="Content of the preview"
            value={variant}
            onChange={(value) => setVariant(value as Variant)}
            data={[
              { value: 'a', label: 'first' },
              { value: 'b', label: 'second' },
            ]}
          />
        )}
      </Group>
      <div className="phone" data-platform={platform}>
        <div className="phone-screen">
          {chosen.silent ? (
            <Text size="sm">Nothing is shown; the app wakes up.</Text>
          ) : (
            <Banner
              platform={platform}
              content={{ ...chosen, body: cut ? `${body.slice(0, SHOWN[platform])}…` : body }}
              appName={appName}
            />
          )}
          <div className="phone-app">
            <span className="phone-icon">
              <IconLeaf size={30} stroke={1.6} color="#fbf8f2" aria-hidden />
              {chosen.badge !== undefined && chosen.badge !== 0 && platform !== 'web' && (
                <span className="phone-badge">{chosen.badge}</span>
              )}
            </span>
            <span>{appName}</span>
          </div>
        </div>
      </div>
      <Text component="figcaption" size="sm" c="dimmed" mt={6}>
        {cut ? `About here ${PLATFORMS[platform]} cuts the body. ` : ''}Variables are filled in for each recipient.
      </Text>
    </figure>
  );
}

function Banner({ platform, content, appName }: { platform: Platform; content: NotificationContent; appName: string }) {
  const { title, body, picture, buttons = [] } = content;
  return (
    <div className="phone-banner">
      {platform !== 'ios' && (
        <div className="phone-from">
          {platform === 'web' ? <IconBellRinging size={13} aria-hidden /> : <IconLeaf size={13} aria-hidden />} {appName} · now
          {platform === 'web' && <IconX size={13} aria-hidden style={{ marginLeft: 'auto' }} />}
        </div>
      )}
      <div style={{ fontWeight: 600 }}>{title || 'Title'}</div>
      <div style={{ whiteSpace: 'pre-wrap' }}>{body || (title ? '' : 'Body')}</div>
      {picture && <div className="phone-picture">picture</div>}
      {buttons.length > 0 && (
        <div className="phone-buttons">
          {buttons.map(({ title: label }) => (
            <span key={label}>{label}</span>
          ))}
        </div>
      )}
    </div>
  );
}
