// The comparison: Express 5 and mysql2 with nothing around them, on the database and the statements of the service.
import express from 'express';
import mysql from 'mysql2/promise';
import pg from 'pg';
import { uuidv7 } from '@orchard/core';
import { randomBytes } from 'node:crypto';

const { BENCH_DATABASE_URL, BENCH_TABLE, BENCH_OWNER } = process.env;
const pool = mysql.createPool({ uri: BENCH_DATABASE_URL, connectionLimit: 20, timezone: 'Z' });
const app = express();
const columns = '`id`, `createdAt`, `updatedAt`, `version`, `ownerId`, `name`, `region`, `bunks`, `open`';

app.get('/data/huts/:id', async (request, response) => {
  const [rows] = await pool.execute(`SELECT ${columns} FROM ${BENCH_TABLE} WHERE id = ?`, [request.params.id]);
  response.json(rows[0]);
});
app.get('/data/huts', async (request, response) => {
  const [rows] = await pool.execute(`SELECT ${columns} FROM ${BENCH_TABLE} WHERE \`bunks\` = ? ORDER BY \`id\` LIMIT 21`, [
    Number(request.query.bunks),
  ]);
  response.json({ items: rows.slice(0, 20) });
});
app.post('/data/huts', express.json(), async (request, response) => {
  const now = new Date();
  const id = uuidv7(now.getTime(), randomBytes(10));
  const { name, region, bunks, open } = request.body;
  await pool.execute(
    `INSERT INTO ${BENCH_TABLE} (\`id\`, \`createdAt\`, \`updatedAt\`, \`version\`, \`ownerId\`, \`_by\`, \`name\`, \`region\`, \`bunks\`, \`open\`) VALUES (?, ?, ?, 1, ?, 'bench', ?, ?, ?, ?)`,
    [id, now, now, BENCH_OWNER, name, region, bunks, open ? 1 : 0],
  );
  response.status(201).json({ id, createdAt: now, updatedAt: now, version: 1, ownerId: BENCH_OWNER, name, region, bunks, open });
});
app.patch('/data/huts/:id', express.json(), async (request, response) => {
  await pool.execute(`UPDATE ${BENCH_TABLE} SET \`version\` = \`version\` + 1, \`updatedAt\` = ?, \`bunks\` = \`bunks\` + ? WHERE id = ?`, [
    new Date(),
    request.body.bunks,
    request.params.id,
  ]);
  const [rows] = await pool.execute(`SELECT ${columns} FROM ${BENCH_TABLE} WHERE id = ?`, [request.params.id]);
  response.json(rows[0]);
});
app.get('/places', async (request, response) => {
  const [lon, lat, metres] = [request.query.lon, request.query.lat, request.query.metres].map(Number);
  const north = metres / 111_194;
  const east = north / Math.cos((lat * Math.PI) / 180);
  const box = [
    [lon - east, lat - north],
    [lon + east, lat - north],
    [lon + east, lat + north],
    [lon - east, lat + north],
    [lon - east, lat - north],
  ];
  const places = BENCH_TABLE.replace(/`huts`$/, '`places`');
  const [rows] = await pool.execute(
    `SELECT id, createdAt, updatedAt, version, ownerId, name, position FROM ${places} WHERE MBRIntersects(_p_position, ST_GeomFromText(?)) AND ST_Distance_Sphere(position, POINT(?, ?)) < ? ORDER BY id LIMIT 51`,
    [`POLYGON((${box.map((corner) => corner.join(' ')).join(', ')}))`, lon, lat, metres],
  );
  response.json({ items: rows.slice(0, 50) });
});
app.get('/search', async (request, response) => {
  const reports = BENCH_TABLE.replace(/`huts`$/, '`reports`');
  const match = 'MATCH(_search) AGAINST(? IN BOOLEAN MODE)';
  const [rows] = await pool.execute(
    `SELECT id, createdAt, updatedAt, version, ownerId, title, body, ${match} AS score FROM ${reports} WHERE ${match} ORDER BY score DESC, id LIMIT 21`,
    [request.query.words, request.query.words],
  );
  response.json({ items: rows.slice(0, 20) });
});
let postgresql;
app.get('/members', async (request, response) => {
  postgresql ??= new pg.Pool({
    host: '127.0.0.1',
    port: Number(request.query.port),
    user: 'postgres',
    password: 'bench',
    database: 'postgres',
    max: 5,
  });
  const { rows } = await postgresql.query(
    'SELECT member_no, name, region, nights, changed FROM members WHERE nights = $1 ORDER BY member_no LIMIT 21',
    [Number(request.query.nights)],
  );
  response.json({ items: rows.slice(0, 20) });
});
const server = app.listen(0, '127.0.0.1', () => process.send({ address: `http://127.0.0.1:${server.address().port}` }));
// The database of other tables ends before this does.
process.on('uncaughtException', (error) => {
  if (error.code !== '57P01') throw error;
});
process.on('disconnect', () => process.exit(0));
