import type { Duplex } from 'node:stream';
import { errorStatus, KoinonError, type ProblemDocument } from '@koinon/core';
import { problemJson } from '@koinon/core/internal';
import type { FastifyError, FastifyReply, FastifyRequest } from 'fastify';
import { bodyLimitOf } from './body.ts';

/** The problem document of an error (RFC 9457). */
export function problemOf(error: KoinonError): ProblemDocument {
  return {
    type: `urn:koinon:problem:${error.code}`,
    title: error.code.replaceAll('-', ' '),
    status: error.status,
    code: error.code,
    detail: error.message,
    ...(error.table === undefined ? {} : { table: error.table }),
    ...(error.column === undefined ? {} : { column: error.column }),
  };
}

/** Answers a request with a problem document. */
export function sendProblem(reply: FastifyReply, error: KoinonError): FastifyReply {
  if (error.code === 'not-authenticated') reply.header('www-authenticate', 'Bearer');
  return reply.status(error.status).type(problemJson).send(problemOf(error));
}

/** Answers with a problem document where there is no reply: on a connection whose request could not be read as one. */
export function endWithProblem(socket: Duplex, error: KoinonError, status: number = error.status): void {
  if (!socket.writable) {
    socket.destroy();
    return;
  }
  const problem = { ...problemOf(error), status };
  const body = JSON.stringify(problem);
  socket.end(
    `HTTP/1.1 ${status} ${problem.title}\r\ncontent-type: ${problemJson}\r\ncontent-length: ${Buffer.byteLength(body)}\r\nconnection: close\r\n\r\n${body}`,
  );
}

/**
 * Any failure of a request, under a code of ours. A failure that the request is not to blame for says nothing of the server's
 * inside.
 */
export function asKoinonError(error: FastifyError | KoinonError, request?: FastifyRequest): KoinonError {
  if (error instanceof KoinonError) return error;
  const status = error.statusCode ?? 500;
  if (status === errorStatus['too-large']) {
    const most = request && bodyLimitOf(request);
    return new KoinonError(
      'too-large',
      `The request is larger than ${most === undefined ? 'the server takes' : `${most} bytes`}; send it in parts.`,
    );
  }
  if (status >= 400 && status < 500)
    return new KoinonError('malformed-request', `The request cannot be read: ${error.message}.`);
  return new KoinonError('server-failure', 'The server could not answer; nothing of the request was done. Try again.');
}

/** Answers what goes wrong before a request has reached a route: a path that is not well encoded, say. */
export function answerFrameworkError(error: FastifyError, _request: FastifyRequest, reply: FastifyReply): void {
  void sendProblem(reply, asKoinonError(error));
}

/** Answers what Node's HTTP parser refuses. */
export function answerParserError(error: Error & { readonly code?: string }, socket: Duplex): void {
  if (error.code === 'ECONNRESET') {
    socket.destroy();
    return;
  }
  if (error.code === 'HPE_HEADER_OVERFLOW') {
    endWithProblem(socket, new KoinonError('too-large', 'The header of the request is larger than 16 KiB.'), 431);
    return;
  }
  if (error.code === 'ERR_HTTP_REQUEST_TIMEOUT') {
    endWithProblem(
      socket,
      new KoinonError('malformed-request', 'The header of the request did not arrive in time.'),
      408,
    );
    return;
  }
  endWithProblem(socket, new KoinonError('malformed-request', 'The request is not one of HTTP/1.1.'));
}
