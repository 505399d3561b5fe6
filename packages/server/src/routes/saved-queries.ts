/** Questions that people have given a name. */
import type Router from '@koa/router'
import type { KeyCheck, SavedQueryInfo } from '@tide/core/api/queries'
import { NAME_PATTERN, NAME_SAYS } from '@tide/core/definition/id'
import { parameterSchema, withParameters, type QueryParameter } from '@tide/core/definition/query-parameters'
import { Failure } from '@tide/core/failure'
import { idSchema } from '../ids.ts'
import { newId, type Services } from '../services.ts'
import { valid } from '../validate.ts'
import { leaving } from './query.ts'

const querySchema = {
  type: 'object',
  required: ['name', 'connection', 'sql'],
  additionalProperties: false,
  properties: {
    name: {
      type: 'string',
      title: 'Name',
      minLength: 1,
      maxLength: 120,
      pattern: NAME_PATTERN,
      patternSays: NAME_SAYS,
    },
    connection: idSchema,
    sql: { type: 'string', title: 'SQL', minLength: 1, maxLength: 100_000 },
    key: {
      type: 'array',
      title: 'Row key',
      maxItems: 16,
      items: { type: 'string', minLength: 1, maxLength: 300 },
      default: [],
    },
    parameters: { type: 'array', title: 'Parameters', maxItems: 50, items: parameterSchema, default: [] },
    values: { type: 'object', additionalProperties: { type: 'string', maxLength: 10_000 }, default: {} },
  },
}

interface Asked {
  name: string
  connection: string
  sql: string
  key: string[]
  parameters: QueryParameter[]
}

const CHECK_MS = 300_000

export function savedQueryRoutes(router: Router, services: Services): void {
  const { store, sessions } = services

  const usedBy = async (id: string) =>
    (await store.pipelines.list()).flatMap(({ id: pipeline, definition }) =>
      definition.shape === 'send' &&
      definition.what &&
      'query' in definition.what &&
      definition.what.query === id
        ? [{ id: pipeline, name: definition.name }]
        : [],
    )

  const info = async (id: string): Promise<SavedQueryInfo> => {
    const found = await store.queries.get(id)
    if (!found) throw new Failure('refused', `There is no saved query ${id}.`, 'Look at the list again.')
    return { ...found, usedBy: await usedBy(id) }
  }

  const save = async (id: string, body: unknown): Promise<SavedQueryInfo> => {
    const { name, connection, sql, key, parameters } = valid<Asked>(querySchema, body, 'Query')
    const asked = { name, connection, sql, key, parameters }
    const twice = parameters.find((one, i) => parameters.findIndex(({ name }) => name === one.name) !== i)
    if (twice) throw new Failure('refused', `The parameter “${twice.name}” is there twice.`, 'Take one out.')
    if (!(await store.connections.get(asked.connection)))
      throw new Failure(
        'refused',
        `There is no connection ${asked.connection}.`,
        'Choose one of those that are there.',
      )
    const taken = (await store.queries.list()).find(one => one.name === asked.name && one.id !== id)
    if (taken)
      throw new Failure('refused', `Another query is called “${asked.name}”.`, 'Choose another name.')
    await store.queries.save({ id, ...asked }, new Date().toISOString())
    return info(id)
  }

  router.get('/queries', async ctx => {
    const all = await store.queries.list()
    ctx.body = await Promise.all(all.map(async one => ({ ...one, usedBy: await usedBy(one.id) })))
  })

  router.post('/queries', async ctx => {
    ctx.status = 201
    ctx.body = await save(newId(), ctx.request.body)
  })

  router.get('/queries/:id', async ctx => {
    ctx.body = await info(ctx.params.id!)
  })

  router.put('/queries/:id', async ctx => {
    const { id } = await info(ctx.params.id!)
    ctx.body = await save(id, ctx.request.body)
  })

  router.get('/queries/:id/versions', async ctx => {
    const { id } = await info(ctx.params.id!)
    ctx.body = await store.queries.versions(id)
  })

  router.delete('/queries/:id', async ctx => {
    const { id, name, usedBy } = await info(ctx.params.id!)
    if (usedBy.length > 0)
      throw new Failure(
        'refused',
        `“${name}” is sent by ${usedBy.map(one => `“${one.name}”`).join(', ')}.`,
        'Let these send something else first.',
      )
    await store.queries.remove(id)
    ctx.status = 204
  })

  /** Whether the key tells the rows of the question apart: all of them are read. */
  router.post('/queries/check-key', async ctx => {
    const { connection, sql, key, parameters, values } = valid<Asked & { values: Record<string, string> }>(
      { ...querySchema, required: ['connection', 'sql', 'key'] },
      ctx.request.body,
      'Query',
    )
    ctx.body = await sessions.use(connection, async ({ stream, quoting = 'plain' }): Promise<KeyCheck> => {
      if (!stream) throw new Failure('refused', 'SQL does not run on this connection.', 'Choose another.')
      const seen = new Map<string, number>()
      const check: KeyCheck = { rows: 0, keyless: 0, doubled: 0, example: null }
      for await (const { columns, rows } of stream(withParameters(sql, parameters, values, quoting), {
        batchRows: 1_000,
        timeoutMs: CHECK_MS,
        signal: leaving(ctx),
      })) {
        const places = key.map(name => columns.findIndex(column => column.name === name))
        const missing = key.find((_, i) => places[i]! < 0)
        if (missing !== undefined)
          throw new Failure(
            'refused',
            `The query has no column “${missing}”.`,
            `It has ${columns.map(({ name }) => name).join(', ')}.`,
          )
        for (const row of rows) {
          check.rows++
          const parts = places.map(place => row[place] ?? null)
          if (parts.includes(null)) {
            check.keyless++
            continue
          }
          const text = JSON.stringify(parts)
          const times = (seen.get(text) ?? 0) + 1
          seen.set(text, times)
          if (times === 2) {
            check.doubled++
            check.example ??= parts as string[]
          }
        }
      }
      return check
    })
  })
}
