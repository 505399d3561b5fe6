import type { AppDescription } from '@tide/core/app/description'
import { batched, below, calls } from './batched.ts'

/** Work tickets of a crew. */
export const rakeboard: AppDescription = {
  description: 1,
  app: 'Rakeboard',
  summary: 'Work tickets: what is to be done, by whom, in which season.',
  signIn: { by: 'bearer token' },
  limits: { perMinute: 1200, concurrent: 4 },
  idempotency: 'Idempotency-Key',
  webhooks: calls,
  objects: {
    tickets: {
      title: 'Tickets',
      schema: 'Ticket',
      key: 'id',
      label: 'summary',
      ...below('/tickets', ['status', 'assignee'], 'in the list'),
      ...batched('/tickets', 50),
      fields: { season: { refers: 'seasons' }, programme: { refers: 'programmes' } },
    },
    comments: {
      title: 'Comments',
      schema: 'Comment',
      key: 'id',
      label: 'body',
      ...below('/comments', ['ticket'], 'in the list'),
      ...batched('/comments', 10),
      fields: { ticket: { refers: 'tickets' } },
    },
    programmes: {
      title: 'Programmes',
      schema: 'Programme',
      key: 'id',
      label: 'name',
      ...below('/programmes', ['name'], 'in the list'),
      ...batched('/programmes', 50),
      fields: { name: { unique: true } },
    },
    seasons: {
      title: 'Seasons',
      schema: 'Season',
      key: 'id',
      label: 'name',
      ...below('/seasons', ['name'], 'in the list'),
      ...batched('/seasons', 50),
      fields: { name: { unique: true } },
    },
  },
}
