// A system behind the service, on BENCH_PORT, or a bare proxy before one at BENCH_TARGET.
import { createServer } from 'node:http';
import httpProxy from 'http-proxy';
import { Agent } from 'node:http';

const { BENCH_PORT, BENCH_TARGET } = process.env;
const answer = JSON.stringify({ hut: 'fellgate', sky: 'clear', text: 'x'.repeat(900) });
const behind = (request, response) => {
  const caching = request.url.startsWith('/kept') ? { 'cache-control': 'max-age=600' } : {};
  response.writeHead(200, { 'content-type': 'application/json', 'content-length': Buffer.byteLength(answer), ...caching }).end(answer);
};
function proxied() {
  const proxy = httpProxy.createProxyServer({ target: BENCH_TARGET, agent: new Agent({ keepAlive: true, maxSockets: 64 }) });
  return (request, response) => proxy.web(request, response);
}
createServer(BENCH_TARGET ? proxied() : behind).listen(Number(BENCH_PORT), '127.0.0.1', () => process.send({ ready: true }));
