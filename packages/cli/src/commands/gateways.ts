/** Gateways to push networks, SMS centres and mail servers. */
import { readFileSync } from 'node:fs';
import { GATEWAY_KINDS, type Gateway, type GatewayCheck, type NewGateway, operations, STAGES } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { passwordOf } from '../asking.js';
import { CommandError, type GlobalOptions, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { moment, note, printItem, printText } from '../output.js';
import { print, surroundings } from '../surroundings.js';

type AddOptions = {
  kind: NewGateway['kind'];
  stage: 'trial' | 'live';
  client?: string;
  address?: string;
  trust?: string;
  certificate?: string;
  keyFile?: string;
  mapping?: string;
  settings?: string;
  passwordStdin?: boolean;
};

function readText(path: string, what: string): string {
  try {
    return readFileSync(path, 'utf8');
  } catch (error) {
    throw new CommandError(`${what} ${path} cannot be read: ${(error as Error).message}.`, 2);
  }
}
function readJson(path: string, what: string): unknown {
  try {
    return JSON.parse(readText(path, what));
  } catch (error) {
    if (error instanceof CommandError) throw error;
    throw new CommandError(`${what} ${path} is not JSON: ${(error as Error).message}.`, 2);
  }
}

async function newGateway(name: string, own: AddOptions): Promise<NewGateway> {
  const settings = {
    ...(own.settings ? (JSON.parse(own.settings) as object) : {}),
    ...(own.address ? { address: own.address } : {}),
    ...(own.trust ? { trust: readText(own.trust, 'The authority') } : {}),
  };
  const mapping = own.mapping ? { mapping: readJson(own.mapping, 'The mapping') } : {};
  const common = { kind: own.kind, name, stage: own.stage, settings, ...mapping, ...(own.client ? { client: own.client } : {}) };
  const need = (given: string | undefined, option: string) => {
    if (!given) throw new CommandError(`A gateway of the kind ${own.kind} needs ${option}.`, 2);
    return given;
  };
  if (own.kind === 'certificate') {
    const certificate = readFileSync(need(own.certificate, '--certificate <file.p12>')).toString('base64');
    return { ...common, certificate, password: await passwordOf('Password of the certificate file: ', own.passwordStdin) } as NewGateway;
  }
  if (own.kind === 'token') return { ...common, keyFile: readText(need(own.keyFile, '--key-file <file>'), 'The key file') } as NewGateway;
  return { ...common, password: await passwordOf('Password: ', own.passwordStdin) } as NewGateway;
}

function printGateway(gateway: Gateway, options: GlobalOptions): void {
  if (options.json) return printItem(gateway, options);
  const { name, kind, stage, client, credential, mapping, readiness } = gateway;
  printItem(
    {
      gateway: name,
      kind,
      stage,
      client,
      credential: credential.text,
      expires: moment(credential.expiresAt),
      mapping: mapping && `version ${mapping.version}, ${mapping.title}`,
    },
    options,
  );
  for (const { ready, text } of readiness) print(`  ${ready ? 'ready  ' : 'missing'}  ${printText(text)}`);
}

function printCheck({ ok, steps }: GatewayCheck, options: GlobalOptions): void {
  if (options.json) return print(JSON.stringify({ ok, steps }, null, 2));
  for (const step of steps) print(`${step.ok ? 'passed' : 'failed'}  ${step.what}: ${printText(step.text)}`);
}

type CredentialOptions = { certificate?: string; keyFile?: string; passwordStdin?: boolean; strandDevices?: boolean };

/** Replaces a credential, after saying what the file holds and which devices it would strand. */
function addCredential(gateway: Command): void {
  gateway
    .command('credential')
    .description('replace the credential of a gateway; says first what the file holds and how many devices it would strand')
    .argument('<name>')
    .option('--certificate <file>', 'PKCS#12 file, or the certificate signed for a signing request')
    .option('--key-file <file>', 'signing key (PEM) or service account (JSON)')
    .option('--password-stdin', 'read the password from standard input')
    .option('--strand-devices', 'replace it although registered devices could not be reached any more')
    .action(async (name: string, own: CredentialOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      const at = { params: { ...params, gateway: name } };
      const body = await credentialFrom(own);
      const seen = await client.call(operations.gateways.previewCredential, { ...at, body });
      if (!options.json) {
        print(printText(seen.credential?.text ?? 'No credential.'));
        print(
          `${seen.devices} registered devices, of which ${seen.stranded} could not be reached any more. ${printText(seen.why ?? '')}`.trim(),
        );
      }
      const strandDevices = own.strandDevices ?? false;
      printGateway(await client.call(operations.gateways.patch, { ...at, body: { ...body, strandDevices } }), options);
    });
}

async function credentialFrom({ certificate, keyFile, passwordStdin }: CredentialOptions) {
  if (keyFile) return { keyFile: readText(keyFile, 'The key file') };
  const password = passwordStdin || !certificate ? await passwordOf('Password: ', passwordStdin) : '';
  return certificate ? { certificate: readFileSync(certificate).toString('base64'), password } : { password };
}

function addSigningRequests(program: Command): void {
  program.command('signing-request').description('keys made here, and requests for their certificates');
  addList(program, operations.gateways.signingRequests, [
    'id',
    'client',
    ['subject', ({ subject }) => Object.values(subject).join(', ')],
    'createdAt',
  ]);
  addCall(program, operations.gateways.addSigningRequest, { print: ({ pem }) => print(pem.trimEnd()) });
  addRemoval(program, operations.gateways.removeSigningRequest, {
    what: ({ request }) => `Deleting the signing request ${request} with its key`,
    done: ({ request }) => `Deleted the signing request ${request}.`,
  });
}

export function addGatewayCommands(program: Command): void {
  const gateway = program.command('gateway').description('gateways to push networks, SMS centres and mail servers');
  addList(
    program,
    operations.gateways.list,
    [
      'name',
      'kind',
      'stage',
      'client',
      ['ready', ({ ready }) => (ready ? 'yes' : 'no')],
      ['expires', ({ credential }) => credential.expiresAt],
      ['accepted, 24 h', ({ lastDay }) => lastDay.accepted],
      ['failed, 24 h', ({ lastDay }) => lastDay.failed],
      ['missing', ({ readiness }) => readiness.find(({ ready }) => !ready)?.text],
    ],
    { about: 'gateways, and what each is missing' },
  );
  gateway
    .command('add')
    .description('add a gateway; its credential is checked before it is stored')
    .argument('<name>')
    .addOption(new Option('--kind <kind>').choices(GATEWAY_KINDS.filter((kind) => kind !== 'web-push')).makeOptionMandatory())
    .addOption(new Option('--stage <stage>').choices(STAGES).makeOptionMandatory())
    .option('--client <name>', 'the client whose devices it reaches')
    .option('--address <url>', 'base address of the network')
    .option('--trust <file>', 'PEM of the authority to trust, instead of the public ones')
    .option('--certificate <file>', 'PKCS#12 file')
    .option('--key-file <file>', 'signing key (PEM) or service account (JSON)')
    .option('--mapping <file>', 'gateway mapping')
    .option('--settings <json>', 'host, port, sender and the like')
    .option('--password-stdin', 'read the password from standard input')
    .action(async (name: string, own: AddOptions, command: Command) => {
      const { options, client, params } = workspace(command);
      printGateway(await client.call(operations.gateways.create, { params, body: await newGateway(name, own) }), options);
    });
  addCall(program, operations.gateways.read, { print: printGateway });
  addCredential(gateway);
  addSigningRequests(program);
  addCall(program, operations.gateways.check, {
    about: 'check a gateway without sending anything',
    print(check, options) {
      printCheck(check, options);
      if (!check.ok) surroundings().exitCode = 1;
    },
  });
  gateway
    .command('map')
    .description('activate a new version of a gateway’s mapping; without a file, print the active one')
    .argument('<name>')
    .argument('[file]')
    .action(async (name: string, file: string | undefined, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const at = { ...params, gateway: name };
      if (!file) {
        const { items } = await client.call(operations.gateways.mappings, { params: at, query: { limit: 1 } });
        if (!items[0]) throw new CommandError(`The gateway ${name} has no mapping: its protocol defines the format.`, 1);
        return print(JSON.stringify(items[0].document, null, 2));
      }
      const made = await client.call(operations.gateways.putMapping, { params: at, body: readJson(file, 'The mapping') as never });
      note(`Version ${made.version} of the mapping is active.`, options);
    });
  gateway
    .command('rotate')
    .description('rotate the web push key; devices subscribed earlier stay reachable')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      printGateway(await client.call(operations.gateways.rotate, { params: { ...params, gateway: 'web-push' } }), options);
    });
  addRemoval(program, operations.gateways.remove, {
    about: 'remove a gateway and its credential',
    what: ({ gateway: name }) => `Removing the gateway ${name}`,
    done: ({ gateway: name }) => `Removed the gateway ${name}.`,
  });
}
