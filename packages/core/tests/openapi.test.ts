import { expect, test } from '@jest/globals'
import type { AppDescription } from '../src/app/description.ts'
import { faultsOf, objectsOf, type OpenApi } from '../src/app/openapi.ts'

const description: AppDescription = {
  description: 1,
  app: 'Clubgate',
  signIn: { by: 'nothing' },
  objects: {
    clubs: {
      schema: 'Club',
      key: 'id',
      list: { path: '/clubs' },
      read: { path: '/clubs/{id}' },
      fields: { papers: { link: '/file/href' } },
    },
  },
}

const document: OpenApi = {
  openapi: '3.1.0',
  paths: { '/clubs': { get: {} }, '/clubs/{club_id}': { get: {} } },
  components: {
    schemas: {
      Club: {
        properties: {
          id: { type: 'string', readOnly: true },
          papers: { type: 'array', items: { type: 'object' } },
        },
      },
    },
  },
}

test('a path is the document’s, whatever that calls its parts', () => {
  expect(faultsOf(description, document)).toEqual([])
  const elsewhere = { ...description.objects.clubs!, read: { path: '/clubs/{id}/all' } }
  expect(faultsOf({ ...description, objects: { clubs: elsewhere } }, document)).toMatchObject([
    { at: ['objects', 'clubs', 'read', 'path'], remedy: 'It has /clubs, /clubs/{club_id}.' },
  ])
})

test('attachments are a set of links that is read alone', () => {
  const [clubs] = objectsOf(description, document)
  expect(clubs!.fields[1]).toMatchObject({
    name: 'papers',
    type: { kind: 'list', of: { kind: 'utf8' } },
    readOnly: true,
    link: '/file/href',
  })
})

test('objects that are not described come from one place; those that a discovery finds may be linked to', () => {
  const discovery: AppDescription['discovery'] = {
    list: { path: '/tables', id: '/id' },
    fields: { id: '/id', type: '/type' },
    types: {},
    records: { key: 'id', list: { path: '/tables/{object}' } },
  }
  const clubs = { ...description.objects.clubs!, fields: { id: { refers: 'jobs' } } }
  const linked = { ...description, objects: { clubs } }
  expect(faultsOf(linked, document)).toMatchObject([
    { message: 'There is no object “jobs” in this description.' },
  ])
  const paths = { ...document.paths, '/tables': { get: {} }, '/tables/{name}': { get: {} } }
  expect(faultsOf({ ...linked, discovery }, { ...document, paths })).toEqual([])
  expect(faultsOf({ ...linked, discovery }, document).map(({ at }) => at)).toEqual([
    ['discovery', 'list', 'path'],
    ['discovery', 'records', 'list', 'path'],
  ])
  const sheets = {} as AppDescription['sheets']
  expect(faultsOf({ ...linked, discovery, sheets }, { ...document, paths })[0]).toMatchObject({
    at: ['sheets'],
  })
})
