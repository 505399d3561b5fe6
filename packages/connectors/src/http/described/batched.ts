/** What the interfaces of the shipped apps have in common. */
import type { AppDescription, DescribedObject } from '@tide/core/app/description'

type Parts = Pick<
  DescribedObject,
  'list' | 'gone' | 'read' | 'create' | 'change' | 'remove' | 'created' | 'version'
>

/** Records below a path, each at its key; lists in pages by a cursor. `where`: fields that they can be asked for by. */
export function below(
  path: string,
  where: readonly string[],
  deletions?: 'in the list' | 'in a feed',
): Parts {
  const one = { path: `${path}/{id}` }
  return {
    list: {
      path,
      items: '/data',
      total: '/total',
      paging: { by: 'cursor', parameter: 'after', next: '/next' },
      size: { parameter: 'limit', most: 100 },
      where: Object.fromEntries(where.map(field => [field, field])),
      changed: {
        parameter: 'updated_since',
        field: 'updated_at',
        ...(deletions === 'in the list' ? { with: { deleted: 'true' }, gone: '/deleted' } : {}),
      },
    },
    ...(deletions === 'in a feed'
      ? { gone: { path: `${path}/deleted`, items: '/data', id: '/id', parameter: 'after', next: '/next' } }
      : {}),
    created: 'created_at',
    version: { field: 'version', header: 'If-Match' },
    read: one,
    create: { path },
    change: one,
    remove: one,
  }
}

/** Several operations in one call, each with its answer. `called`: what the app calls creating and removing. */
export function batched(
  path: string,
  most: number,
  called: { create: string; remove: string } = { create: 'create', remove: 'delete' },
): Pick<DescribedObject, 'batch'> {
  return {
    batch: {
      path: `${path}/batch`,
      most,
      operations: '/operations',
      create: { action: called.create, values: '$values' },
      change: { action: 'change', id: '$id', values: '$values', version: '$version' },
      remove: { action: called.remove, id: '$id' },
      answers: '/results',
      id: '/id',
      refused: '/error',
      message: '/error/message',
      field: '/error/field',
      item: '/record',
      changed: { at: '/error/code', is: 'changed' },
      gone: { at: '/error/code', is: 'not_found' },
    },
  }
}

/** They call an address when a record has changed. */
export const calls: NonNullable<AppDescription['webhooks']> = {
  subscribe: { path: '/webhooks', body: { url: '$url', secret: '$secret', object: '$object' } },
  id: '/id',
  remove: { path: '/webhooks/{id}' },
  signed: { by: 'standard webhooks' },
}
