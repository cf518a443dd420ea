/** Systems of others that functions and apps call through the service. */
import { readFileSync } from 'node:fs';
import { operations, type Upstream, type UpstreamDefinition } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { jsonOption } from '../jsonOption.js';
import { note, printItem, printText } from '../output.js';
import { print, surroundings } from '../surroundings.js';

const healthWords = ({ health: { state, calls, failed, meanMs, cached } }: Upstream): string =>
  calls === 0 ? 'not called' : `${state}: ${calls} calls, ${failed} failed, ${cached} from what was kept, mean ${meanMs} ms`;

/** A file in JSON. @throws {CommandError} */
function documentAt(path: string): object {
  try {
    const document: unknown = JSON.parse(readFileSync(path, 'utf8'));
    if (typeof document === 'object' && document !== null) return document;
  } catch (error) {
    throw new CommandError(`${path} cannot be read: ${(error as Error).message}.`, 2);
  }
  throw new CommandError(`${path} holds no object.`, 2);
}

export function addUpstreamCommands(program: Command): void {
  const group = program.command('upstream').description('systems of others that functions and apps call through the service');
  addList(program, operations.upstreams.list, [
    'name',
    'address',
    ['identified by', ({ identify }) => identify.way],
    ['operations', (one) => one.operations.length],
    'mode',
    ['last ten minutes', healthWords],
    ['check', ({ check }) => (check ? (check.ok ? 'passed' : check.detail) : 'not yet')],
  ]);
  addCall(program, operations.upstreams.read);
  group
    .command('put')
    .description('add an upstream, or change it, from a file in JSON; then check it')
    .argument('<name>')
    .argument('<file>', 'address, identify, operations and limits')
    .action(async (name: string, file: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const at = { params: { ...params, upstream: name } };
      await client.call(operations.upstreams.put, { ...at, body: documentAt(file) as UpstreamDefinition });
      const check = await client.call(operations.upstreams.check, at);
      if (options.json) return printItem(check, options);
      note(`Saved ${name}.`, options);
      print(`${check.ok ? 'passed' : 'failed'}  ${printText(check.detail)}`);
    });
  group
    .command('describe')
    .description('give the OpenAPI document of an upstream, from a file in JSON')
    .argument('<name>')
    .argument('<file>')
    .action(async (name: string, file: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = documentAt(file) as never;
      const described = await client.call(operations.upstreams.describe, { params: { ...params, upstream: name }, body });
      if (options.json) return print(JSON.stringify(described, null, 2));
      note(`${name} has ${described.items.length} operations; ${described.items.filter(({ chosen }) => chosen).length} are open.`, options);
    });
  addList(program, operations.upstreams.description, ['method', 'path', 'summary', ['open', ({ chosen }) => (chosen ? 'yes' : '')]]);
  addCall(program, operations.upstreams.check, {
    print({ ok, detail }) {
      print(`${ok ? 'passed' : 'failed'}  ${printText(detail)}`);
      if (!ok) surroundings().exitCode = 1;
    },
  });
  group
    .command('try')
    .description('call an upstream as a function would')
    .argument('<name>')
    .argument('<path>')
    .option('--method <method>', 'GET, POST, PUT, PATCH or DELETE', 'GET')
    .option('--body <json>')
    .action(async (name: string, path: string, own: { method: string; body?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const body = { method: own.method.toUpperCase(), path, ...(own.body ? { body: jsonOption(own.body, '--body') } : {}) };
      const tried = await client.call(operations.upstreams.try, { params: { ...params, upstream: name }, body: body as never });
      if (options.json) return print(JSON.stringify(tried, null, 2));
      print(
        `${tried.status} after ${tried.durationMs} ms${tried.cached ? ', from what was kept' : ''}${tried.tries > 1 ? `, ${tried.tries} tries` : ''}`,
      );
      print(printText(typeof tried.body === 'string' ? tried.body : JSON.stringify(tried.body, null, 2)));
    });
  addCall(program, operations.upstreams.forget, { print: ({ forgotten }) => print(`Forgot ${forgotten} recorded answers.`) });
  addRemoval(program, operations.upstreams.remove, {
    what: ({ upstream }) => `Deleting the upstream ${upstream} with its description and recorded answers`,
    done: ({ upstream }) => `Deleted the upstream ${upstream}.`,
  });
  addList(program, operations.upstreams.uses, [
    ['who', ({ from }) => `${from.kind} ${from.name}${from.version ? ` ${from.version}` : ''}`],
    ['uses', ({ to }) => `${to.kind} ${to.name}`],
    'count',
    'lastAt',
  ]);
}
