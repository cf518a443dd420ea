/** How a site answers besides its files: fallback page, redirects, headers, names of its own. */
import { Button, Group, JsonInput, NumberInput, Stack, TagsInput, TextInput } from '@mantine/core';
import { operations, type SiteDocument } from '@orchard/contract';
import { useState } from 'react';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';

const own = operations.sites;

export function SiteSettings({ site, onGone }: { site: SiteDocument; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { ...params, site: site.name };
  const [fallback, setFallback] = useState(site.fallback ?? '');
  const [redirects, setRedirects] = useState(JSON.stringify(site.redirects, null, 2));
  const [headers, setHeaders] = useState(JSON.stringify(site.headers, null, 2));
  const [hosts, setHosts] = useState(site.hosts);
  const [keep, setKeep] = useState<number | string>(site.keep);
  const [wrong, setWrong] = useState<Error | null>(null);
  const save = useChange(own.put);
  const remove = useChange(own.remove);
  function store(): void {
    try {
      const body = {
        fallback: fallback || null,
        redirects: JSON.parse(redirects || '[]'),
        headers: JSON.parse(headers || '[]'),
        hosts,
        keep: Number(keep),
      };
      setWrong(null);
      save.mutate({ params: at, body });
    } catch (error) {
      setWrong(error as Error);
    }
  }
  return (
    <Stack gap="sm">
      <TextInput
        label="Fallback page"
        description="For paths without a file, such as index.html of a single-page app"
        placeholder="none"
        value={fallback}
        onChange={({ currentTarget }) => setFallback(currentTarget.value)}
      />
      <JsonInput
        label="Redirects"
        description='Such as [{"from":"/old/*","to":"/new/*","status":308}]'
        value={redirects}
        onChange={setRedirects}
        autosize
        minRows={2}
        maxRows={12}
        validationError="This is no JSON."
        classNames={{ input: 'mono' }}
      />
      <JsonInput
        label="Headers"
        description='Such as [{"path":"/*","name":"Content-Security-Policy","value":"default-src &#39;self&#39;"}]'
        value={headers}
        onChange={setHeaders}
        autosize
        minRows={2}
        maxRows={12}
        validationError="This is no JSON."
        classNames={{ input: 'mono' }}
      />
      <TagsInput
        label="Host names of your own"
        description="Let them lead to this service; TLS is the proxy’s"
        value={hosts}
        onChange={setHosts}
        placeholder="warden.quillfell.example"
      />
      <NumberInput label="Versions kept" min={1} max={100} w={140} value={keep} onChange={setKeep} />
      <Trouble error={wrong ?? save.error} />
      <Group>
        <Button loading={save.isPending} onClick={store}>
          Save settings
        </Button>
        <ConfirmedButton
          label="Delete site"
          verb="Delete"
          question={`Delete ${site.name}?`}
          consequence="Its address answers nothing any more, and its versions are gone."
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
