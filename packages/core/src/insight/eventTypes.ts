/** The event plan as types of TypeScript: an app that tracks a misspelt event, or a property of another type, does not compile. */
import type { PropertyType } from './words.js';

export type PlannedForTypes = {
  name: string;
  description: string;
  properties: Readonly<Record<string, { type: PropertyType; description?: string | undefined }>>;
};

const TYPES: Record<PropertyType, string> = {
  text: 'string',
  number: 'number',
  boolean: 'boolean',
  // RFC 3339, as events carry them.
  time: 'string',
  list: 'string[]',
};
const IDENTIFIER = /^[A-Za-z_$][\w$]*$/;

const keyOf = (name: string): string => (IDENTIFIER.test(name) ? name : JSON.stringify(name));
/** A description cannot end the comment that it stands in. */
const commentOf = (text: string | undefined, indent: string): string =>
  text ? `${indent}/** ${text.replaceAll('*/', '* /').replace(/\s+/g, ' ')} */\n` : '';

/** @param of names the environment in the first line; the events come in the order in which they are given */
export function eventTypes(of: string, plan: readonly PlannedForTypes[]): string {
  const events = plan.map(({ name, description, properties }) => {
    const own = Object.entries(properties).map(
      ([property, { type, description: about }]) => `${commentOf(about, '    ')}    ${keyOf(property)}?: ${TYPES[type]};\n`,
    );
    return `${commentOf(description, '  ')}  ${keyOf(name)}: {${own.length > 0 ? `\n${own.join('')}  ` : ''}};\n`;
  });
  return `// The event plan of ${of}, by \`orchard event types\`. Make it again when the plan changes.\nexport type Events = {\n${events.join('')}};\n`;
}
