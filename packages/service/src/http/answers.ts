import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';

/**
 * Called once for each request, when its answer has been sent or its connection has closed.
 *
 * @param aborted whether the connection closed before all of the answer was sent
 */
export type AnswerListener = (request: FastifyRequest, reply: FastifyReply, aborted: boolean) => void;

/** Adds a listener for the answers of a server. */
export type OnAnswer = (listener: AnswerListener) => void;

/**
 * Follows the answers of a server. The hook `onResponse` does not suffice: it is not called if the client closes the connection
 * before the answer is complete.
 */
export function followAnswers(app: FastifyInstance): OnAnswer {
  const listeners: AnswerListener[] = [];
  app.addHook('onRequest', (request, reply, next) => {
    reply.raw.on('close', () => {
      for (const listener of listeners) listener(request, reply, !reply.raw.writableFinished);
    });
    next();
  });
  return (listener) => listeners.push(listener);
}
