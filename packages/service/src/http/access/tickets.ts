import { formatTime } from '@uproar/core';
import { Problem } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import type { Context } from '../../requests/context.js';

const Ticket = z.object({ ticket: z.string(), expires: z.iso.datetime() }).meta({ id: 'Ticket' });

/** Tickets, for browsers' `EventSource`. */
export function serveTickets(app: FastifyInstance, { tickets }: Pick<Context, 'tickets'>): void {
  app.withTypeProvider<ZodTypeProvider>().post(
    '/v1/tickets',
    {
      schema: {
        operationId: 'createTicket',
        tags: ['data'],
        summary: 'Get a ticket',
        description:
          'Valid for one GET within 30 seconds, as the parameter `ticket` instead of the key. For clients that cannot send headers, such as `EventSource`.',
        response: { 201: Ticket, default: Problem },
      },
    },
    async (request, reply) => {
      const { ticket, expiresMs } = tickets.issue(request.identity, Date.now());
      return reply
        .code(201)
        .header('cache-control', 'no-store')
        .send({ ticket, expires: formatTime(expiresMs) });
    },
  );
}
