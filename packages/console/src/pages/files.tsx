/** Files and folders: what apps store besides records. */
import { Drawer, Tabs } from '@mantine/core';
import { operations, shellWord } from '@orchard/contract';
import { useAddressState, useEnvironment } from '../environment.js';
import { Browse } from '../files/browse.js';
import { OneFile } from '../files/drawer.js';
import { FolderRules } from '../files/folderRules.js';
import { Deleted, ShareLinks, Storage } from '../files/kept.js';
import { PageHead } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';

const own = operations.managedFiles;
const TABS = { files: 'Files', rules: 'Rules', links: 'Share links', deleted: 'Deleted', storage: 'Storage' } as const;

export function FilesPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'files');
  const [folder] = useAddressState('folder');
  const [open, setOpen] = useAddressState('open');
  const place = `--app ${params.app} --env ${params.environment}`;
  const listing = folder
    ? coded(own.list, { params: { ...params, path: folder } }, `orchard file ls ${shellWord(folder)} ${place}`)
    : coded(own.listRoot, { params }, `orchard file ls ${place}`);
  const putting = coded(
    own.put,
    { params: { ...params, path: `${folder || 'photos'}/col.jpg` } },
    `orchard file put col.jpg ${shellWord(`${folder || 'photos'}/`)} ${place}`,
  );
  return (
    <>
      <PageHead title="Files" hint="With rules for each folder, editions, and properties of your own">
        <FromCode calls={[listing, putting]} />
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List mb="md">
          {Object.entries(TABS).map(([value, label]) => (
            <Tabs.Tab key={value} value={value}>
              {label}
            </Tabs.Tab>
          ))}
        </Tabs.List>
        <Tabs.Panel value="files">
          <Browse openId={open} onOpen={setOpen} />
        </Tabs.Panel>
        <Tabs.Panel value="rules">
          <FolderRules />
        </Tabs.Panel>
        <Tabs.Panel value="links">
          <ShareLinks />
        </Tabs.Panel>
        <Tabs.Panel value="deleted">
          <Deleted />
        </Tabs.Panel>
        <Tabs.Panel value="storage">
          <Storage />
        </Tabs.Panel>
      </Tabs>
      <Drawer opened={open !== ''} onClose={() => setOpen(null)} position="right" size="lg" title="File">
        {open && <OneFile key={open} path={open} onMoved={setOpen} onGone={() => setOpen(null)} />}
      </Drawer>
    </>
  );
}
