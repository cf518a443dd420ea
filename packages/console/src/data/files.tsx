/** Import of a file (drop it, map its columns, check, start), and export of records. */
import { Button, Group, MultiSelect, NativeSelect, Progress, Stack, Switch, Text, Title } from '@mantine/core';
import { addressOf, type Collection, IMPORT_FORMATS, type ImportReport, operations, Problem } from '@orchard/contract';
import { useState } from 'react';
import { csrfHeaders, refreshCalls } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { useEnvironment } from '../environment.js';
import { type ColumnSample, describeFile, formatOf, sampleOf } from './fileSample.js';
import { TableHead } from '../parts/tableHead.js';

type Format = keyof typeof IMPORT_FORMATS;

export function Files({ collection, filter }: { collection: Collection; filter: string }) {
  return (
    <Stack gap="xl" maw={900}>
      <Import collection={collection} />
      <Export collection={collection} filter={filter} />
    </Stack>
  );
}

type Sent = { sent: number; total: number };

/** Sends a file as it is read from the disk; progress counts bytes sent, the report comes when everything is stored. */
function upload(address: string, type: string, file: File, onProgress: (sent: Sent) => void): Promise<ImportReport> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open('POST', address);
    request.setRequestHeader('Content-Type', type);
    for (const [name, value] of Object.entries(csrfHeaders())) request.setRequestHeader(name, value);
    request.upload.onprogress = ({ loaded, total }) => onProgress({ sent: loaded, total });
    request.onload = () =>
      request.status === 200 ? resolve(JSON.parse(request.responseText)) : reject(Problem.from(JSON.parse(request.responseText)));
    request.onerror = () => reject(new TypeError('The connection broke while the file was sent.'));
    request.send(file);
  });
}

function Import({ collection }: { collection: Collection }) {
  const [file, setFile] = useState<File | null>(null);
  const [told, setTold] = useState('');
  const [columns, setColumns] = useState<ColumnSample[]>([]);
  const [over, setOver] = useState(false);
  async function choose(chosen: File | undefined): Promise<void> {
    if (!chosen) return;
    setColumns(await sampleOf(chosen, formatOf(chosen)));
    setTold(await describeFile(chosen));
    setFile(chosen);
  }
  return (
    <section>
      <Title order={2} mb="xs">
        Import
      </Title>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: dropping is one way, the button inside the other */}
      <div
        className="drop"
        data-over={over || undefined}
        onDragOver={(event) => {
          event.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(event) => {
          event.preventDefault();
          setOver(false);
          void choose(event.dataTransfer.files[0]);
        }}
      >
        <Text mb="xs">{file ? told : 'Drop a CSV, NDJSON or GeoJSON file here'}</Text>
        <Button component="label" variant="default">
          {file ? 'Another file' : 'Choose a file'}
          <input
            type="file"
            hidden
            accept=".csv,.ndjson,.jsonl,.geojson,.json"
            aria-label="File to import"
            onChange={({ currentTarget }) => void choose(currentTarget.files?.[0])}
          />
        </Button>
      </div>
      {file && <Mapping key={`${file.name} ${file.lastModified} ${file.size}`} collection={collection} file={file} columns={columns} />}
    </section>
  );
}

const LEAVE_OUT = '';
/** Types whose values do not tell records apart. */
const NO_KEY = new Set<string>(['place', 'list', 'object']);

function Mapping({ collection, file, columns }: { collection: Collection; file: File; columns: ColumnSample[] }) {
  const { params } = useEnvironment();
  const format = formatOf(file);
  const places = collection.fields.filter(({ type }) => type === 'place').flatMap(({ name }) => [`${name}.longitude`, `${name}.latitude`]);
  const known = ['id', 'ownerId', ...collection.fields.map(({ name }) => name), ...places];
  const nearest = (name: string) => known.find((field) => field.toLowerCase() === name.toLowerCase().replace(/[^a-z0-9.]/g, '')) ?? name;
  const [map, setMap] = useState<Record<string, string>>(() => Object.fromEntries(columns.map(({ name }) => [name, nearest(name)])));
  const [strict, setStrict] = useState(false);
  const [key, setKey] = useState<string[]>([]);
  const [busy, setBusy] = useState<Sent | null>(null);
  const [report, setReport] = useState<(ImportReport & { checked: boolean }) | null>(null);
  const [error, setError] = useState<unknown>(null);
  async function run(check: boolean): Promise<void> {
    setError(null);
    setReport(null);
    setBusy({ sent: 0, total: file.size });
    const mapping = Object.fromEntries(Object.entries(map).map(([column, field]) => [column, field === LEAVE_OUT ? null : field]));
    const query = {
      format,
      strict,
      check,
      key: key.join(',') || undefined,
      columns: columns.length > 0 ? JSON.stringify(mapping) : undefined,
    };
    try {
      const address = addressOf(operations.collections.importRecords, { params: { ...params, collection: collection.name }, query });
      setReport({ ...(await upload(address, IMPORT_FORMATS[format], file, setBusy)), checked: check });
      await refreshCalls(operations.managedRecords, operations.collections);
    } catch (caught) {
      setError(caught);
    } finally {
      setBusy(null);
    }
  }
  return (
    <Stack mt="md">
      {columns.length > 0 && (
        <div className="listing">
          <table>
            <TableHead columns={['Column', 'Looks like', 'Values', 'Becomes']} />
            <tbody>
              {columns.map(({ name, type, values }) => (
                <tr key={name}>
                  <td className="mono">{name}</td>
                  <td>{type}</td>
                  <td className="mono">{values.join(' · ')}</td>
                  <td>
                    <NativeSelect
                      size="xs"
                      aria-label={`Field of ${name}`}
                      value={map[name] ?? name}
                      onChange={({ currentTarget }) => setMap((before) => ({ ...before, [name]: currentTarget.value }))}
                      data={[
                        ...(known.includes(name) ? [] : [{ value: name, label: `new field ${name}` }]),
                        ...known,
                        { value: LEAVE_OUT, label: 'left out' },
                      ]}
                    />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <MultiSelect
        size="sm"
        maw={420}
        label="Key"
        description="A row with the values of a record in these fields changes it; without a key, every row is a new record"
        data={['id', ...collection.fields.filter(({ type }) => !NO_KEY.has(type)).map(({ name }) => name)]}
        value={key}
        onChange={setKey}
        clearable
      />
      <Group>
        <Button variant="default" loading={busy !== null} onClick={() => void run(true)}>
          Check
        </Button>
        <Button loading={busy !== null} onClick={() => void run(false)}>
          Import
        </Button>
        <Switch
          label="Store nothing if any row does not fit"
          checked={strict}
          onChange={({ currentTarget }) => setStrict(currentTarget.checked)}
        />
      </Group>
      {busy && (
        <div>
          <Progress value={(100 * busy.sent) / Math.max(1, busy.total)} aria-label="Sent" />
          <Text size="sm">
            {busy.sent < busy.total
              ? `${(busy.sent / 1e6).toFixed(1)} of ${(busy.total / 1e6).toFixed(1)} MB sent`
              : 'All sent; storing the rest'}
          </Text>
        </div>
      )}
      <Trouble error={error} />
      {report && <Outcome report={report} name={file.name} />}
    </Stack>
  );
}

function Outcome({
  report: { stored, rejected, rejects, byKey, checked },
  name,
}: {
  report: ImportReport & { checked: boolean };
  name: string;
}) {
  const lines = rejects.map((reject) => JSON.stringify(reject)).join('\n');
  return (
    <div role="status">
      <Text>
        {checked
          ? `${stored === 1 ? 'One row fits' : `${count(stored)} rows fit`}; nothing was stored.`
          : `Stored ${count(stored)} record${stored === 1 ? '' : 's'}.`}{' '}
        {byKey && `${count(byKey.created)} new, ${count(byKey.changed)} changed, ${count(byKey.same)} as they were. `}
        {rejected > 0 && <span className="care">{rejected === 1 ? 'One row does' : `${count(rejected)} rows do`} not fit.</span>}
      </Text>
      {rejects.length > 0 && (
        <>
          <div className="listing">
            <table>
              <tbody>
                {rejects.slice(0, 10).map((reject) => (
                  <tr key={`${reject.line} ${reject.reason}`}>
                    <td className="right mono">line {reject.line}</td>
                    <td className="whole">{reject.reason}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          <Button
            mt="xs"
            size="xs"
            variant="default"
            component="a"
            download={`${name}.rejects.ndjson`}
            href={`data:application/x-ndjson;charset=utf-8,${encodeURIComponent(lines)}`}
          >
            Save {rejects.length < rejected ? `the first ${rejects.length}` : 'them'} with their reasons
          </Button>
        </>
      )}
    </div>
  );
}

function Export({ collection, filter }: { collection: Collection; filter: string }) {
  const { params } = useEnvironment();
  const [format, setFormat] = useState<Format>('csv');
  const address = addressOf(operations.collections.exportRecords, {
    params: { ...params, collection: collection.name },
    query: { format, filter },
  });
  return (
    <section>
      <Title order={2}>Export</Title>
      <Group align="flex-end" mt="xs">
        <NativeSelect
          label="As"
          value={format}
          onChange={({ currentTarget }) => setFormat(currentTarget.value as Format)}
          data={[
            { value: 'csv', label: 'CSV' },
            { value: 'ndjson', label: 'NDJSON' },
            { value: 'geojson', label: 'GeoJSON' },
          ]}
        />
        <Button variant="default" component="a" href={address} download>
          Save {filter ? 'the filtered records' : 'all records'}
        </Button>
      </Group>
      {filter && (
        <Text size="sm" c="dimmed" mt={4}>
          Those that match <span className="mono">{filter}</span>.
        </Text>
      )}
    </section>
  );
}
