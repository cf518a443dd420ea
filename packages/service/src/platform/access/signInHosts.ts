/** The host of an environment's sign-in page: one of its own, apart from console and API, where the installation has them. */
import type { Environment } from '../call.js';

type Place = Pick<Environment, 'app' | 'name'>;

export class SignInHosts {
  readonly #pattern: string | null;
  readonly #host: RegExp | null;

  /** @param pattern such as `https://{environment}.{app}.id.quillfell.example`; null: pages are at the service's own address */
  constructor(pattern: string | null) {
    this.#pattern = pattern;
    this.#host = pattern === null ? null : hostPattern(pattern);
  }

  /** Where the pages of an environment are; null: at the service's own address. */
  originOf({ app, name }: Place): string | null {
    return this.#pattern?.replace('{environment}', name).replace('{app}', app) ?? null;
  }

  /** The environment whose host this is. */
  placeOf(host: string): { app: string; environment: string } | null {
    const { environment, app } = this.#host?.exec(host.toLowerCase())?.groups ?? {};
    return environment && app ? { environment, app } : null;
  }
}

function hostPattern(pattern: string): RegExp {
  const [, host = ''] = /^https?:\/\/(.+)$/.exec(pattern) ?? [];
  const name = (text: string) => `(?<${text}>[a-z][a-z0-9-]*)`;
  const escaped = host.replace(/[.*+?^$()|[\]\\]/g, '\\$&');
  return new RegExp(`^${escaped.replace('{environment}', name('environment')).replace('{app}', name('app'))}$`);
}
