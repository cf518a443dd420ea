/** The links of a storm, as a program of its own: the driver has enough to do. Its arguments are where each leads. */
import { Link, type Conditions } from '@orchard/simulators';

export type LinkConditions = { link: number; conditions: Conditions };

const links = await Promise.all(process.argv.slice(2).map((to) => Link.open(to)));
process.on('message', ({ link, conditions }: LinkConditions) => {
  const one = links[link];
  if (one) one.conditions = conditions;
});
process.once('disconnect', () => process.exit(0));
process.send?.(links.map(({ address }) => address));
