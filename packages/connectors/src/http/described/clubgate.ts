import type { AppDescription } from '@tide/core/app/description'
import { batched, below, calls } from './batched.ts'

/** Membership of garden clubs. */
export const clubgate: AppDescription = {
  description: 1,
  app: 'Clubgate',
  summary: 'Membership of garden clubs: organisations and their contacts.',
  signIn: { by: 'bearer token' },
  limits: { perMinute: 1200, concurrent: 4 },
  idempotency: 'Idempotency-Key',
  webhooks: calls,
  objects: {
    organisations: {
      title: 'Organisations',
      schema: 'Organisation',
      key: 'id',
      label: 'name',
      ...below('/organisations', ['club_number', 'email'], 'in a feed'),
      ...batched('/organisations', 100),
      fields: { club_number: { unique: true } },
    },
    contacts: {
      title: 'Contacts',
      schema: 'Contact',
      key: 'id',
      label: 'name',
      ...below('/contacts', ['email'], 'in a feed'),
      ...batched('/contacts', 100),
      fields: { email: { unique: true }, organisation: { refers: 'organisations' } },
    },
  },
}
