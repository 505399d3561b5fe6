import type { AppDescription } from '@tide/core/app/description'
import { batched, below, calls } from './batched.ts'

const ROWS = '/tables/{object}/rows'

/** Tables that growers make for themselves. */
export const benchbook: AppDescription = {
  description: 1,
  app: 'Benchbook',
  summary: 'Tables of one’s own making, and views of them.',
  signIn: { by: 'bearer token' },
  limits: { perMinute: 300, concurrent: 2 },
  idempotency: 'Idempotency-Key',
  webhooks: calls,
  objects: {
    comments: {
      title: 'Comments',
      schema: 'Comment',
      key: 'id',
      label: 'body',
      ...below('/comments', ['job'], 'in the list'),
      ...batched('/comments', 10),
      fields: { job: { refers: 'jobs' } },
    },
  },
  discovery: {
    list: {
      path: '/tables',
      items: '/tables',
      id: '/id',
      title: '/title',
      label: '/label',
      readOnly: '/read_only',
    },
    fields: {
      items: '/fields',
      id: '/id',
      title: '/title',
      type: '/type',
      required: '/required',
      readOnly: '/read_only',
      unique: '/unique',
      choices: '/choices',
      maxLength: '/longest',
      refers: '/links_to',
    },
    types: {
      text: { is: 'string' },
      choice: { is: 'string', choices: true },
      tags: { is: 'set' },
      attachments: { is: 'set', link: '/url' },
      'whole number': { is: 'integer' },
      number: { is: 'number' },
      date: { is: 'string', format: 'date' },
      time: { is: 'string', format: 'date-time' },
      'e-mail': { is: 'string', format: 'email' },
      'yes or no': { is: 'boolean' },
      key: { is: 'string', notMade: true },
      link: { is: 'string', notMade: true },
      formula: { is: 'number', notMade: true },
    },
    records: { key: 'id', ...below(ROWS, [], 'in the list'), ...batched(ROWS, 10) },
    make: {
      object: {
        path: '/tables',
        body: { title: '$title', fields: '$fields' },
        id: '/id',
        fields: '/made',
      },
      field: {
        path: '/tables/{object}/fields',
        body: { title: '$title', type: '$type', choices: '$choices' },
        id: '/id',
      },
    },
  },
}
