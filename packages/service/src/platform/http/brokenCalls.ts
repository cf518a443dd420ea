/** Calls that are not valid HTTP: they get a problem document too. */
import type { Server } from 'node:http';
import { Problem } from '@orchard/contract';

const problemOf = (code: string | undefined): Problem | null => {
  switch (code) {
    case 'HPE_HEADER_OVERFLOW':
      return new Problem('headers-too-large');
    case 'ERR_HTTP_REQUEST_TIMEOUT':
      return new Problem('malformed-json', 'The request was not received completely in time. Send it again.');
    default:
      return code?.startsWith('HPE_') ? new Problem('malformed-json', 'This is not HTTP/1.1 (RFC 9112).') : null;
  }
};

export function answerBrokenCalls(http: Server): void {
  http.on('clientError', (error: NodeJS.ErrnoException, socket) => {
    const problem = problemOf(error.code);
    if (!problem || !socket.writable) return void socket.destroy();
    const text = JSON.stringify(problem.toDocument());
    const head = [
      `HTTP/1.1 ${problem.status} ${problem.status === 431 ? 'Request Header Fields Too Large' : 'Bad Request'}`,
      'Content-Type: application/problem+json; charset=utf-8',
      `Content-Length: ${Buffer.byteLength(text)}`,
      // The page that sent too long an address may read the reason.
      'Access-Control-Allow-Origin: *',
      'Connection: close',
    ];
    socket.end(`${head.join('\r\n')}\r\n\r\n${text}`);
  });
}
