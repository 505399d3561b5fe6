/** The OpenAPI document of a stand-in app. */
import type { StandInAppDefinition, StandInObject } from './definition.ts'

export function documentOf(
  { name, what, objects, calls, tables, deletions }: StandInAppDefinition,
  server: string,
): object {
  // Of what people make for themselves, and may make anew tomorrow, it says how it is asked for.
  const fixed = tables ? objects.filter(({ remarks }) => remarks) : objects
  return {
    openapi: '3.1.0',
    info: { title: `${name} (simulated)`, summary: what, version: '1' },
    servers: [{ url: server }],
    paths: Object.assign(
      {},
      ...fixed.map(one => pathsOf(one, deletions)),
      tables ? TABLES : {},
      calls ? HOOKS : {},
    ) as object,
    components: {
      securitySchemes: { token: { type: 'http', scheme: 'bearer' } },
      schemas: Object.fromEntries(fixed.map(object => [object.schema, schemaOf(object)])),
    },
    security: [{ token: [] }],
  }
}

const answers = (description: string) => ({ responses: { 200: { description } } })

const HOOKS = {
  '/webhooks': { post: answers('the subscription') },
  '/webhooks/{id}': { delete: answers('nothing') },
}

const TABLES = {
  '/tables': { get: answers('the tables with their fields'), post: answers('the new table') },
  '/tables/{object}/fields': { post: answers('the new field') },
  '/tables/{object}/fields/{field}': { delete: answers('nothing') },
  ...recordPaths('/tables/{object}/rows'),
}

function pathsOf({ name, countsOnly }: StandInObject, deletions: StandInAppDefinition['deletions']): object {
  const feed = { [`/${name}/deleted`]: { get: answers('which records were deleted') } }
  return { ...recordPaths(`/${name}`, countsOnly), ...(deletions === 'in a feed' ? feed : {}) }
}

function recordPaths(base: string, countsOnly = false): object {
  const list = countsOnly ? {} : { get: answers('a page of records') }
  return {
    [base]: { ...list, post: answers('the new record') },
    [`${base}/batch`]: { post: answers('what became of each operation') },
    [`${base}/count`]: { get: answers('how many there are') },
    ...(countsOnly
      ? {}
      : {
          [`${base}/{id}`]: {
            get: answers('the record'),
            patch: answers('the changed record'),
            delete: answers('nothing'),
          },
        }),
  }
}

const FILE = { type: 'object', properties: { name: { type: 'string' }, url: { type: 'string' } } }

function schemaOf({ fields }: StandInObject): object {
  const own = Object.entries(fields).map(([name, field]) => {
    const { type, format, title, enum: choices, maxLength, readOnly, computed, maker, files } = field
    const choice = choices ? { enum: choices } : {}
    return [
      name,
      {
        type: field.required || type === 'array' ? type : [type, 'null'],
        ...(type === 'array'
          ? { items: files ? FILE : { type: 'string', ...choice }, uniqueItems: true }
          : choice),
        ...(format ? { format } : {}),
        ...(title ? { title } : {}),
        ...(maxLength === undefined ? {} : { maxLength }),
        ...(readOnly || computed || maker ? { readOnly: true } : {}),
      },
    ]
  })
  return {
    type: 'object',
    required: Object.entries(fields).flatMap(([name, { required }]) => (required ? [name] : [])),
    properties: {
      id: { type: 'string', readOnly: true },
      ...Object.fromEntries(own),
      version: { type: 'integer', readOnly: true },
      created_at: { type: 'string', format: 'date-time', readOnly: true },
      updated_at: { type: 'string', format: 'date-time', readOnly: true },
    },
  }
}
