/** What wardens tell guests: enough notices that searching them is worth it. */
import type { HttpClient } from '@orchard/contract';
import { operations } from '@orchard/contract';
import { APP, HUTS, seededRandom } from './scenario.js';

/** Title and text; `{hut}` is the hut's name. */
const TEXTS: [title: string, body: string][] = [
  ['Boil the water', 'The spring at {hut} is cloudy after the thaw. Boil the water before you drink it.'],
  ['Bridge below the hut', 'The snow bridge below {hut} is down. Cross the stream at the ford a kilometre to the west, early in the day.'],
  ['Drying room closed', 'The drying room is closed while the flue is mended. Hang wet clothes in the porch.'],
  ['Full on Saturday', '{hut} is full on Saturday with a guided group. The next free bunks are one stage further.'],
  ['Path diverted', 'The path from {hut} to the pass is diverted around a rockfall. Follow the blue posts, not the old cairns.'],
  ['Sheep in the valley', 'Please keep dogs on a lead: the sheep are on the slope above {hut} until autumn.'],
  ['Stove wood', 'Firewood is short. One basket for each evening, and leave the kindling dry for whoever comes after you.'],
  ['Radio schedule', 'The weather is read at 18:30. The radio in {hut} has a new battery; switch it off afterwards.'],
  ['Water is back', 'The pipe is mended and there is water at the tap again. The spring itself stays closed.'],
  ['Ice on the steps', 'The steps to the door are icy in the morning. There is sand in the box beside them.'],
];

/** One notice in three stays within its time; the others have passed. */
export async function seedNotices(owner: HttpClient, environment: 'dev' | 'live', now: number): Promise<void> {
  const random = seededRandom(environment === 'dev' ? 23 : 29);
  const share = environment === 'dev' ? 0.5 : 0.2;
  const actions = HUTS.flatMap(({ id, name }) =>
    TEXTS.filter(() => random() < share).map(([title, body], i) => ({
      action: 'create' as const,
      record: {
        id: `${id}-notice-${i + 1}`,
        hut: id,
        title,
        body: body.replaceAll('{hut}', name),
        until: new Date(now + (Math.floor(random() * 30) - 20) * 86_400_000).toISOString().slice(0, 10),
      },
    })),
  );
  const params = { app: APP.name, environment, collection: 'notices' };
  await owner.call(operations.managedRecords.batch, { params, body: { actions } });
  await owner.call(operations.collections.addIndex, { params, body: { fields: ['title', 'body'], search: true } });
}
