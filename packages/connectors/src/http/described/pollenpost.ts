import type { AppDescription } from '@tide/core/app/description'
import { batched, below } from './batched.ts'

/** Mailing audiences and their members, whom nobody can read back. */
export const pollenpost: AppDescription = {
  description: 1,
  app: 'Pollenpost',
  summary: 'Mailing audiences, and who is in them.',
  signIn: { by: 'bearer token' },
  limits: { perMinute: 600, concurrent: 4 },
  idempotency: 'Idempotency-Key',
  objects: {
    audiences: {
      title: 'Audiences',
      schema: 'Audience',
      key: 'id',
      label: 'name',
      ...below('/audiences', ['name']),
      fields: { name: { unique: true } },
    },
    members: {
      title: 'Members',
      schema: 'Member',
      key: 'id',
      label: 'email',
      ...batched('/members', 500, { create: 'add', remove: 'take out' }),
      fields: { audience: { refers: 'audiences' } },
    },
  },
}
