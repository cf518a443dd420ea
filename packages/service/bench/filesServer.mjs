// A bare server of files: express.static for reads, and a pipeline to a file with fsync for writes.
import { createWriteStream, mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { pipeline } from 'node:stream/promises';
import express from 'express';

const { BENCH_PORT, BENCH_DIRECTORY } = process.env;
mkdirSync(BENCH_DIRECTORY, { recursive: true });
const app = express();
app.use('/static', express.static(BENCH_DIRECTORY));
app.put('/:name', async (request, response) => {
  await pipeline(request, createWriteStream(join(BENCH_DIRECTORY, request.params.name), { flush: true }));
  response.status(201).end();
});
app.listen(Number(BENCH_PORT), '127.0.0.1', () => process.send({ ready: true }));
