/** The systems behind the association's app: the weather office and the payment office. */
import { type HttpClient, operations } from '@orchard/contract';
import { PAYMENT_CLIENT, WEATHER_DOCUMENT, WEATHER_KEY } from '@orchard/simulators';
import type { SimulatorAddresses } from './messages.js';
import { APP } from './scenario.js';

const params = { app: APP.name, environment: 'dev' };

export async function seedUpstreams(owner: HttpClient, { offices }: SimulatorAddresses): Promise<void> {
  if (!offices) return;
  const secret = (name: string, value: string) =>
    owner.call(operations.functions.putSecret, { params: { ...params, secret: name }, body: { value } });
  await secret('weather-key', WEATHER_KEY);
  await secret('payment-secret', PAYMENT_CLIENT.secret);
  const weather = { params: { ...params, upstream: 'weather' } };
  await owner.call(operations.upstreams.put, {
    ...weather,
    body: {
      address: `${offices}/weather`,
      identify: { way: 'header', header: 'X-Weather-Key', secret: 'weather-key' },
      operations: [{ name: 'forecast', path: '/forecasts/{hut}', callers: 'anyone' }],
    },
  });
  await owner.call(operations.upstreams.describe, { ...weather, body: WEATHER_DOCUMENT as never });
  const payments = { params: { ...params, upstream: 'payments' } };
  await owner.call(operations.upstreams.put, {
    ...payments,
    body: {
      address: `${offices}/payments`,
      identify: {
        way: 'client-credentials',
        tokenAddress: `${offices}/payments/token`,
        clientId: PAYMENT_CLIENT.id,
        secret: 'payment-secret',
      },
      operations: [
        { name: 'prices', path: '/prices', callers: 'signed-in' },
        { name: 'charge', method: 'POST', path: '/charges', callers: 'servers' },
      ],
    },
  });
  for (const at of [weather, payments]) await owner.call(operations.upstreams.check, at);
}
