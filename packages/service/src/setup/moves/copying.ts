/** Brings rows that changed to the other database server. */
import type { EnvironmentDatabase } from '../../platform/database/environmentDatabase.js';
import { RowWriter } from '../arrivals/rowWriterStore.js';
import type { ReadableTable } from '../backups/structureDdl.js';
import type { ChangedRow } from './captureDdl.js';
import { RowReader } from './rowReaderStore.js';

export class RowCopier {
  private constructor(
    private readonly reader: RowReader,
    private readonly writer: RowWriter,
  ) {}

  static async open(from: EnvironmentDatabase, to: EnvironmentDatabase): Promise<RowCopier> {
    const reader = await RowReader.open(from);
    return new RowCopier(reader, await RowWriter.open(to));
  }

  close(): void {
    for (const end of [this.reader, this.writer]) end.close();
  }

  /** Makes the rows at the other server what they are here: there, or gone. */
  async copy(changes: readonly ChangedRow[], tables: ReadonlyMap<string, ReadableTable>): Promise<void> {
    for await (const change of this.reader.read(changes, tables)) await this.writer.write(change);
  }

  /** Whether tables have as many rows there as here. @returns the names of those that do not */
  async differing(names: readonly string[]): Promise<string[]> {
    const [here, there] = await Promise.all([this.reader.count(names), this.writer.count(names)]);
    return names.filter((name) => here.get(name) !== there.get(name));
  }
}

/** The names of tables that are counted while writes are held. */
export const countedTables = (tables: Iterable<ReadableTable>): string[] =>
  [...tables].filter(({ bytes }) => bytes <= COUNTED_BYTES).map(({ name }) => name);
/** Counting a larger one would take too long. */
const COUNTED_BYTES = 2_000_000;
