import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';

/**
 * Called once for each request, when its answer has been sent or its connection has closed.
 *
 * @param aborted whether the connection closed before all of the answer was sent
 */
export type AnswerListener = (request: FastifyRequest, reply: FastifyReply, aborted: boolean) => void;

/** Adds a listener for the answers of a server. */
export type OnAnswer = (listener: AnswerListener) => void;

/** Follows the answers of a server. Its own hook for that misses requests whose clients do not wait for the answer. */
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
