/** The properties of a team's own that its files have: fields of the collection of files. */
import { Problem } from '@orchard/contract';
import { checkField, type Field, fieldNameProblem } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { presentField } from '../collections/catalogue.js';
import { FILE_FACTS, FILES } from '../collections/filesShape.js';
import type { FilesRoom } from './filesRoom.js';

type NamedField = { name: string } & Field;

export async function propertiesOf({ parts }: FilesRoom, environment: Environment): Promise<object[]> {
  const { fields } = await parts.catalogue.files(environment);
  return [...fields].filter(([name]) => !FILE_FACTS.has(name)).map(([name, field]) => presentField(name, field));
}

/** @throws {Problem} already-exists, invalid-input */
export async function addProperty({ parts }: FilesRoom, environment: Environment, { name, ...field }: NamedField): Promise<object> {
  const { fields } = await parts.catalogue.files(environment);
  if (fields.has(name)) throw new Problem('already-exists', `Files have a property \`${name}\` already.`);
  const [wrong] = [fieldNameProblem(name, fields.keys()), ...checkField(name, field)].filter((problem) => problem !== null);
  if (wrong) throw new Problem('invalid-input', wrong.problem, { fields: [wrong] });
  if (field.required || field.unique)
    throw new Problem('invalid-input', 'A property of files is neither required nor unique: a plain PUT brings none.', {
      fields: [
        { path: field.required ? 'required' : 'unique', problem: 'Properties of files have no such constraint.', expected: 'left out' },
      ],
    });
  const made = await parts.catalogue.extend(environment, FILES, new Map([[name, field]]));
  return presentField(name, made.fields.get(name) as Field);
}
