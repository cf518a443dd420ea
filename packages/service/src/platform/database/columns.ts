/** Columns that many tables have. */
import { datetime, varchar } from 'drizzle-orm/mysql-core';

/** A time to the millisecond, UTC. */
export const instant = <Name extends string>(name: Name) => datetime(name, { mode: 'date', fsp: 3 });
export const id = <Name extends string = 'id'>(name: Name = 'id' as Name) => varchar(name, { length: 64 });
