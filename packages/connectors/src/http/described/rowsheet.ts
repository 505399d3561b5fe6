import type { AppDescription } from '@tide/core/app/description'

/** Spreadsheets. */
export const rowsheet: AppDescription = {
  description: 1,
  app: 'Rowsheet',
  summary: 'Spreadsheets: rows by number, whose columns the first row names.',
  signIn: { by: 'bearer token' },
  limits: { perMinute: 300, concurrent: 2 },
  objects: {},
  sheets: {
    list: { path: '/sheets', items: '/sheets', id: '/id', title: '/title' },
    rows: {
      path: '/sheets/{id}/rows',
      from: 'from',
      size: { parameter: 'limit', most: 500 },
      revision: '/revision',
      header: '/header',
      items: '/rows',
      number: '/number',
      cells: '/cells',
    },
    write: {
      path: '/sheets/{id}/write',
      header: 'If-Match',
      most: 200,
      cells: '/cells',
      cell: { row: '$row', column: '$column', value: '$value' },
      append: '/append',
      remove: '/remove',
      revision: '/revision',
      items: '/rows',
    },
    column: { path: '/sheets/{id}/columns', body: { title: '$title', hidden: true } },
  },
}
