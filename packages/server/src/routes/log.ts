/** What happened: searched, page by page, and as a file. */
import type Router from '@koa/router'
import { LOG_FORMS, printLogLine, type LogForm } from '@tide/core/api/log'
import { LOG_LEVELS, type LogQuery } from '@tide/core/definition/log'
import { Failure } from '@tide/core/failure'
import { Readable } from 'node:stream'
import type { ParsedUrlQuery } from 'node:querystring'
import { idSchema } from '../ids.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const LOG_PAGE = 100
/** Lines of a file are read so many at once. */
const FILE_PAGE = 1_000

const text = (title: string) => ({ type: 'string', title, minLength: 1, maxLength: 1_000 })

const searched = {
  pipeline: { ...idSchema, title: 'pipeline' },
  lane: text('lane'),
  level: { enum: LOG_LEVELS, title: 'level' },
  text: text('text'),
  since: text('since'),
  until: text('until'),
}

const pageSchema = {
  type: 'object',
  properties: {
    ...searched,
    before: { type: 'integer', title: 'before', minimum: 1, maximum: Number.MAX_SAFE_INTEGER },
  },
}

const fileSchema = {
  type: 'object',
  properties: { ...searched, form: { enum: LOG_FORMS, title: 'form', default: 'text' } },
}

const detailsSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['minutes'],
  properties: { minutes: { type: 'integer', title: 'minutes', minimum: 0, maximum: 1440 } },
}

export function logRoutes(router: Router, { store, engine }: Services): void {
  router.get('/log', async ctx => {
    const { before, ...asked } = valid<LogQuery & { before?: number }>(pageSchema, filled(ctx.query), 'Log')
    const page = { limit: LOG_PAGE, ...(before === undefined ? {} : { before }) }
    ctx.body = await store.history.lines(withTimes(asked), page)
  })

  /** Oldest first. */
  router.get('/log/file', async ctx => {
    const { form, ...asked } = valid<LogQuery & { form: LogForm }>(fileSchema, filled(ctx.query), 'Log')
    const query = withTimes(asked)
    const names = new Map((await store.pipelines.list()).map(({ id, definition }) => [id, definition.name]))
    const lines = async function* () {
      for (let after = 0; ;) {
        const page = await store.history.lines(query, { after, limit: FILE_PAGE })
        yield page
          .map(line => printLogLine(line, line.pipeline && (names.get(line.pipeline) ?? line.pipeline), form))
          .join('')
        if (page.length < FILE_PAGE) return
        after = page.at(-1)!.id
      }
    }
    ctx.attachment(`log-${new Date().toISOString().slice(0, 10)}.${form === 'json' ? 'jsonl' : 'txt'}`)
    ctx.type = form === 'json' ? 'application/x-ndjson' : 'text/plain; charset=utf-8'
    ctx.body = Readable.from(lines(), { objectMode: false })
  })

  /** How long the log of a pipeline tells details from now on, in minutes; 0: no more. */
  router.put('/pipelines/:id/details', async ctx => {
    const id = ctx.params.id!
    const { minutes } = valid<{ minutes: number }>(detailsSchema, ctx.request.body ?? {}, 'Details')
    await engine.inTurn(id, () => engine.deeds.tellDetails(id, minutes))
    ctx.body = await engine.status(id)
  })
}

/** What stands empty is not asked for. */
function filled(query: ParsedUrlQuery): Record<string, unknown> {
  const given = Object.entries(query).filter(([, value]) => value !== '')
  return Object.fromEntries(given.map(([name, value]) => [name, name === 'before' ? Number(value) : value]))
}

/** Times as ISO 8601. Throws a Failure for what is none. */
function withTimes({ since, until, ...rest }: LogQuery): LogQuery {
  return {
    ...rest,
    ...(since === undefined ? {} : { since: timeOf(since) }),
    ...(until === undefined ? {} : { until: timeOf(until) }),
  }
}

function timeOf(text: string): string {
  const at = new Date(text)
  const year = at.getUTCFullYear()
  if (year >= 1 && year <= 9999) return at.toISOString()
  throw new Failure('refused', `“${text.slice(0, 60)}” is no time.`, 'Write it like 2026-03-01T12:00:00Z.')
}
