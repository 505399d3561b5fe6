import type Router from '@koa/router'
import type Koa from 'koa'
import type { CheckItem } from '@tide/core/api/browse'
import type { Config } from '@tide/connectors/contract/session'
import { connectors } from '@tide/connectors/registry'
import { originsOf } from '@tide/core/definition/origins'
import { runsOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import type { ConnectionInfo } from '@tide/core/api/connections'
import type { JournalAnswer } from '@tide/core/api/journals'
import { NAME_PATTERN, NAME_SAYS } from '@tide/core/definition/id'
import { Failure } from '@tide/core/failure'
import { statfs } from 'node:fs/promises'
import { Readable } from 'node:stream'
import { isDeepStrictEqual } from 'node:util'
import type { ConnectionRecord } from '@tide/store/connections'
import { connectionRecord } from '../connection-record.ts'
import { idSchema } from '../ids.ts'
import { signingIn } from '../sign-ins.ts'
import { TestedSettings, type LastCheck } from '../tested.ts'
import { leaving } from './query.ts'
import { newId, type Services } from '../services.ts'
import { valid } from '../validate.ts'

const connectionSchema = {
  type: 'object',
  required: ['name', 'kind', 'config'],
  additionalProperties: false,
  properties: {
    name: {
      type: 'string',
      title: 'Name',
      minLength: 1,
      maxLength: 80,
      pattern: NAME_PATTERN,
      patternSays: NAME_SAYS,
    },
    kind: { type: 'string' },
    config: { type: 'object' },
  },
}

/** Before it is saved it may be without a name. */
const checkSchema = {
  ...connectionSchema,
  required: ['kind', 'config'],
  properties: { ...connectionSchema.properties, id: idSchema },
}

interface Setting {
  title: string
  writeOnly?: boolean
  default?: unknown
}

interface ConnectionBody {
  name: string
  kind: string
  config: Record<string, unknown>
}

const tableSchema = {
  type: 'object',
  required: ['namespace', 'name'],
  properties: { namespace: { type: 'string' }, name: { type: 'string' } },
}

const versionSchema = {
  type: 'object',
  additionalProperties: false,
  properties: {
    version: { type: 'string', pattern: '^\\d{1,16}$' },
    since: { type: 'string', pattern: '^\\d{1,16}$' },
  },
  dependentRequired: { since: ['version'] },
}

const PREVIEW_ROWS = 100
/** So many versions of a table are listed. */
const VERSIONS = 200
const PREVIEW_MS = 10_000
const COUNT_MS = 5_000

export function connectionRoutes(router: Router, services: Services): void {
  const { store, sessions, checked } = services
  const tested = new TestedSettings()

  const record = (id: string) => connectionRecord(store, id)

  const info = async (connection: ConnectionRecord): Promise<ConnectionInfo> => {
    const pipelines = await store.pipelines.list()
    const used = pipelines.filter(({ definition }) =>
      [...originsOf(definition).map(origin => origin.connection), definition.to].includes(connection.id),
    )
    return {
      ...connection,
      signIn: signsIn(connection) ? { done: connection.secretsSet.includes('grant') } : null,
      address: services.connector(connection.kind).address(connection.config),
      screen:
        typeof connection.config.screen === 'string' && connection.config.screen
          ? connection.config.screen
          : null,
      usedBy: used.map(({ id, definition }) => ({ id, name: definition.name })),
    }
  }

  const signsIn = ({ kind, config }: Pick<ConnectionRecord, 'kind' | 'config'>): boolean => {
    try {
      return services.connector(kind).signIn?.(config) !== undefined
    } catch {
      return false // what is wrong with its settings is said by its test
    }
  }

  /** Splits settings into those that may be shown and secrets; an empty secret means: as it was. */
  const split = (body: ConnectionBody) => {
    const { configSchema } = services.connector(body.kind)
    const properties = (configSchema as { properties: Record<string, { writeOnly?: boolean }> }).properties
    const config: Record<string, unknown> = {}
    const secrets: Record<string, unknown> = {}
    for (const [name, value] of Object.entries(body.config)) {
      if (!properties[name]?.writeOnly) config[name] = value
      else if (value !== '') secrets[name] = value
    }
    return { config, secrets }
  }

  /** The settings with their secrets, those of a saved connection where none are given. */
  const complete = async (body: ConnectionBody, id: string | undefined) => {
    const { config, secrets } = split(body)
    const found = id ? await store.connections.openable(id) : undefined
    const saved = found?.kind === body.kind ? found : undefined
    if (saved) refuseLending(body, saved.config, config, secrets)
    const merged = { ...saved?.config, ...config, ...secrets }
    const { configSchema, title } = services.connector(body.kind)
    return valid<Record<string, unknown>>(configSchema, merged, title)
  }

  /** A saved secret goes only where it went when it was saved. */
  const refuseLending = (
    { kind }: ConnectionBody,
    saved: ConnectionBody['config'],
    config: ConnectionBody['config'],
    secrets: ConnectionBody['config'],
  ) => {
    const { placeSettings, configSchema } = services.connector(kind)
    const properties = (configSchema as { properties: Record<string, Setting> }).properties
    const lent = Object.keys(properties).find(
      name => properties[name]!.writeOnly && (saved[name] ?? '') !== '' && secrets[name] === undefined,
    )
    if (lent === undefined) return
    const valueOf = (of: ConnectionBody['config'], name: string) =>
      of[name] ?? properties[name]?.default ?? ''
    const moved = placeSettings.find(name => name in config && valueOf(saved, name) !== valueOf(config, name))
    if (moved === undefined) return
    throw new Failure(
      'refused',
      `${properties[moved]!.title} is another than was saved, and the saved ${properties[lent]!.title} goes nowhere else.`,
      `Enter ${properties[lent]!.title} again.`,
    )
  }

  /** What is being followed must stay what it is. */
  const refuseChangingFollowed = async (
    id: string,
    { kind }: ConnectionBody,
    config: ConnectionBody['config'],
  ) => {
    const present = await store.connections.get(id)
    if (!present) return
    const { fixedWhileFollowed, configSchema } = services.connector(kind)
    const properties = (configSchema as { properties: Record<string, Setting> }).properties
    const valueOf = (of: ConnectionBody['config'], name: string) => of[name] ?? properties[name]?.default
    const changed = fixedWhileFollowed.find(name => valueOf(present.config, name) !== valueOf(config, name))
    if (changed === undefined) return
    const followers = (await store.pipelines.list())
      .flatMap(runsOf)
      .filter(
        ({ definition, lanes, state, reason }) =>
          (definition.shape === 'two-way'
            ? [definition.from, definition.to].includes(id) && !['Draft', 'Ready'].includes(state)
            : definition.from === id && lanes.length > 0) &&
          !(state === 'Stopped' && reason?.kind === 'person'),
      )
    if (followers.length === 0) return
    const names = followers.map(({ definition }) => `“${definition.name}”`).join(', ')
    throw new Failure(
      'refused',
      `${present.name} is followed by ${names}: “${properties[changed]!.title}” cannot change meanwhile.`,
      'Stop these pipelines first, so that their capture is taken off where it is now; or make another connection.',
    )
  }

  /** Under pipelines that have made tables somewhere, that place must not become another. */
  const refuseMovingTarget = async (
    id: string,
    { kind }: ConnectionBody,
    config: ConnectionBody['config'],
  ) => {
    const present = await store.connections.get(id)
    const { identity } = services.connector(kind)
    if (!present || identity(present.config) === identity(config)) return
    const writers = (await store.pipelines.list()).filter(
      ({ definition, lanes, state }) =>
        (definition.to === id && lanes.length > 0) ||
        (definition.shape !== 'replicate' &&
          state !== 'Draft' &&
          (definition.to === id || (definition.shape === 'two-way' && definition.from === id))),
    )
    if (writers.length === 0) return
    const names = writers.map(({ definition }) => `“${definition.name}”`).join(', ')
    throw new Failure(
      'refused',
      `${present.name} is written to by ${names}.`,
      'Make another connection for the other place.',
    )
  }

  const save = async (id: string, body: ConnectionBody) => {
    const settings = await complete(body, id)
    const taken = (await store.connections.list()).find(other => other.name === body.name && other.id !== id)
    if (taken)
      throw new Failure('refused', `Another connection is called “${body.name}”.`, 'Choose another name.')
    const { config, secrets } = split(body)
    const [before, settingsBefore] = [await store.connections.get(id), await store.connections.openable(id)]
    await refuseMovingTarget(id, body, config)
    await refuseChangingFollowed(id, body, config)
    await store.connections.save({ id, name: body.name, kind: body.kind, config }, secrets)
    // The test of other settings says nothing of these.
    const kept = isDeepStrictEqual(settingsBefore?.config, settings) ? (before?.lastCheck ?? null) : null
    const check = tested.of(body.kind, settings)
    await store.connections.setLastCheck(id, check && check.at > (kept?.at ?? '') ? check : kept)
    checked.forget(id)
    await sessions.renew(id)
  }

  router.get('/connectors', ctx => {
    ctx.body = connectors.map(({ kind, title, summary, band, roles, configSchema, quoting = 'plain' }) => ({
      kind,
      title,
      summary,
      band,
      roles,
      quoting,
      configSchema,
    }))
  })

  router.get('/connections', async ctx => {
    ctx.body = await Promise.all((await store.connections.list()).map(info))
  })

  router.post('/connections', async ctx => {
    const body = valid<ConnectionBody>(connectionSchema, ctx.request.body, 'Connection')
    const id = newId()
    await save(id, body)
    ctx.status = 201
    ctx.body = await info(await record(id))
  })

  /** Checks settings before they are saved. `id` lends the saved secrets. */
  router.post('/connections/check', async ctx => {
    const { id, ...body } = valid<ConnectionBody & { id?: string }>(
      checkSchema,
      ctx.request.body,
      'Connection',
    )
    const settings = await complete(body, id)
    const keep =
      id === undefined ? undefined : (secrets: Config) => store.connections.keepSecrets(id, secrets)
    const items = await collect(services.connector(body.kind).check(settings, id, keep))
    tested.remember(body.kind, settings, resultOf(items))
    ctx.body = items
  })

  router.get('/connections/:id', async ctx => {
    ctx.body = await info(await record(ctx.params.id!))
  })

  router.put('/connections/:id', async ctx => {
    const { kind } = await record(ctx.params.id!)
    const body = valid<ConnectionBody>(connectionSchema, ctx.request.body, 'Connection')
    await save(ctx.params.id!, { ...body, kind })
    ctx.body = await info(await record(ctx.params.id!))
  })

  router.delete('/connections/:id', async ctx => {
    const { name, usedBy } = await info(await record(ctx.params.id!))
    if (usedBy.length > 0) {
      const users = usedBy.map(pipeline => `“${pipeline.name}”`).join(', ')
      throw new Failure('refused', `${name} is used by ${users}.`, 'Delete these pipelines first.')
    }
    checked.forget(ctx.params.id!)
    await sessions.renew(ctx.params.id!)
    await signingIn(services, ctx.params.id!)
      .then(found => found.end())
      .catch(() => {}) // it was not let in, or cannot be told
    await store.connections.remove(ctx.params.id!)
    ctx.status = 204
  })

  router.post('/connections/:id/check', async ctx => {
    const items = await checked.of((await record(ctx.params.id!)).id, true)
    await store.connections.setLastCheck(ctx.params.id!, resultOf(items))
    ctx.body = items
  })

  /** `null` where no log is followed. */
  router.get('/connections/:id/journal', async ctx => {
    const { id } = await record(ctx.params.id!)
    const { info: journal } = services.journals.of(id)
    const runs = (await store.pipelines.list()).flatMap(runsOf)
    const known = new Map(
      runs.map(run => [run.id, { pipeline: run.of ?? run.id, name: run.definition.name }]),
    )
    const answer: JournalAnswer = journal
      ? {
          ...journal,
          diskFree: await freeBytes(services.dataFolder),
          followers: journal.followers.map(one => ({ ...one, name: '', ...known.get(one.pipeline) })),
        }
      : await keptElsewhere(runs.filter(({ definition }) => definition.from === id))
    ctx.type = 'json'
    ctx.body = JSON.stringify(answer)
  })

  /** Another engine's journal is in its own data folder. */
  const keptElsewhere = async (pipelines: PipelineRecord[]): Promise<JournalAnswer> => {
    const homes = new Set(pipelines.map(({ home }) => home).filter(home => home !== null))
    const keeper = (await store.leases.engines()).find(
      ({ home }) => home !== services.home && homes.has(home),
    )
    return keeper ? { keptBy: keeper.name } : null
  }

  /** The journal's changes as JSON Lines, from behind `from` on. */
  router.get('/connections/:id/journal/changes', async ctx => {
    const { id, name } = await record(ctx.params.id!)
    const from = typeof ctx.query.from === 'string' ? ctx.query.from : undefined
    const most = Math.max(1, Number(ctx.query.limit) || Infinity)
    const lines = services.journals.of(id).lines(from, most)
    const first = await lines.next() // what cannot be given is refused before anything is
    ctx.type = 'application/jsonl'
    ctx.attachment(`${name}.jsonl`)
    ctx.body = Readable.from(first.done ? [] : continued(first.value, lines), { objectMode: false })
  })

  router.get('/connections/:id/catalogue', async ctx => {
    await record(ctx.params.id!)
    ctx.body = await sessions.catalogue(ctx.params.id!, ctx.query.fresh === 'true')
  })

  /** What a table was, where that is kept: the newest versions first. */
  router.get('/connections/:id/versions', async ctx => {
    await record(ctx.params.id!)
    const table = valid<{ namespace: string; name: string }>(tableSchema, { ...ctx.query }, 'Versions')
    ctx.body = await sessions.use(ctx.params.id!, async session => {
      if (!session.versions) throw noVersions()
      return session.versions(table, VERSIONS)
    })
  })

  /** `version`: as it was then; `since`: what has come and gone from there to that version. */
  router.get('/connections/:id/preview', async ctx => {
    const { kind } = await record(ctx.params.id!)
    const table = valid<{ namespace: string; name: string }>(tableSchema, { ...ctx.query }, 'Preview')
    const id = ctx.params.id!
    // Looking at rows does not wait for long queries.
    const atOnce = services.connector(kind).questionsAtOnce
    const asked = {
      line: `${id} looks`,
      atOnce,
      maxRows: PREVIEW_ROWS,
      timeoutMs: PREVIEW_MS,
      signal: leaving(ctx),
    }
    const { version, since } = valid<{ version?: string; since?: string }>(
      versionSchema,
      versionOf(ctx),
      'Preview',
    )
    ctx.body = await services.questions.ask(asked, limits =>
      sessions.use(id, async session => {
        if (version !== undefined) {
          const { previewAt, difference } = session
          if (!previewAt || !difference) throw noVersions()
          return since === undefined
            ? previewAt(table, version, limits)
            : difference(table, since, version, limits)
        }
        const grid = await session.preview(table, limits)
        if (grid.total !== null) return grid
        // How many there are is not worth waiting for.
        const total = await session.count(table, { ...limits, timeoutMs: COUNT_MS }).catch(() => null)
        return { ...grid, total }
      }),
    )
  })
}

function versionOf({ query: { version, since } }: Koa.Context): object {
  return { ...(version === undefined ? {} : { version }), ...(since === undefined ? {} : { since }) }
}

function noVersions(): Failure {
  return new Failure(
    'refused',
    'This system does not keep what its tables were.',
    'Look at them as they are.',
  )
}

async function* continued<T>(first: T, rest: AsyncIterable<T>): AsyncGenerator<T> {
  yield first
  yield* rest
}

async function collect(items: AsyncIterable<CheckItem>): Promise<CheckItem[]> {
  const all: CheckItem[] = []
  for await (const item of items) all.push(item)
  return all
}

function resultOf(items: readonly CheckItem[]): LastCheck {
  return {
    at: new Date().toISOString(),
    failed: items.filter(item => item.result === 'failed').length,
    warnings: items.filter(item => item.result === 'warning').length,
  }
}

async function freeBytes(folder: string): Promise<number> {
  const { bavail, bsize } = await statfs(folder)
  return bavail * bsize
}
