/** The installation: its own gateways, which reach members and depend on no environment, and its instances. */
import { Button, Drawer, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { OFTEN } from '../api.js';
import { useAddressState } from '../environment.js';
import { AddGateway } from '../gateways/addGateway.js';
import { Instances } from '../installation/instances.js';
import { Empty, Moment } from '../parts/basics.js';
import { ListPage } from '../parts/listPage.js';
import { Verdict } from '../parts/verdict.js';
import { KIND_WORDS, OneGateway } from './gateways.js';

export function InstallationPage() {
  const [, setOpen] = useAddressState('open');
  const [adding, setAdding] = useAddressState('add');
  return (
    <>
      <ListPage
        title="Installation"
        hint="Gateways that reach members, and the instances that serve. They depend on no environment"
        operation={operations.memberWays.gateways}
        {...OFTEN}
        label="Gateways of the installation"
        idOf={({ name }) => name}
        empty={
          <Empty title="No gateway yet">
            <Text>A gateway for mail or SMS reaches members when an environment is in trouble.</Text>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Gateway', render: ({ name }) => name },
          { name: 'kind', label: 'Kind', render: ({ kind }) => KIND_WORDS[kind] },
          { name: 'stage', label: 'Stage', render: ({ stage }) => stage },
          {
            name: 'ready',
            label: 'Ready',
            render: ({ ready, readiness, kind }) => (
              <Verdict well={ready || kind === 'web-push'} because={readiness.find((item) => !item.ready)?.text} />
            ),
          },
          { name: 'check', label: 'Checked', render: ({ check }) => check && <Moment at={check.at} /> },
        ]}
        drawer={{
          title: 'Gateway of the installation',
          render: (name, close, items) => {
            const gateway = items.find((one) => one.name === name);
            return gateway && <OneGateway gateway={gateway} onGone={close} installation />;
          },
        }}
      >
        <Button onClick={() => setAdding('1')}>Add gateway</Button>
      </ListPage>
      <Instances />
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add gateway of the installation">
        {adding && (
          <AddGateway
            installation
            onMade={(name) => {
              setAdding(null);
              setOpen(name);
            }}
          />
        )}
      </Drawer>
    </>
  );
}
