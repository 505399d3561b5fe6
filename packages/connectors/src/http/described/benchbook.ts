import type { AppDescription } from '@tide/core/app/description'
import { batched, below, calls } from './batched.ts'

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
    jobs: {
      title: 'Jobs',
      schema: 'Jobs',
      key: 'id',
      label: 'job',
      ...below('/jobs', ['stage']),
      ...batched('/jobs', 10),
      fields: { programme: { refers: 'programmes' } },
    },
    comments: {
      title: 'Comments',
      schema: 'Comment',
      key: 'id',
      label: 'body',
      ...below('/comments', ['job']),
      ...batched('/comments', 10),
      fields: { job: { refers: 'jobs' } },
    },
    programmes: {
      title: 'Programmes',
      schema: 'Programmes',
      key: 'id',
      label: 'name',
      ...below('/programmes', ['name']),
      ...batched('/programmes', 10),
      fields: { name: { unique: true } },
    },
    open_jobs: {
      title: 'Open jobs (a view)',
      schema: 'OpenJobs',
      key: 'id',
      label: 'job',
      list: below('/open_jobs', []).list,
    },
  },
}
