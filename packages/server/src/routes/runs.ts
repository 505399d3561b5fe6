/** What pipelines did from a beginning to an end: listed, and as a file. */
import type Router from '@koa/router'
import type { RunAnswer } from '@tide/core/api/runs'
import type { LaneSpan } from '@tide/core/api/lane-spans'
import { RUN_KINDS, type RunKind } from '@tide/core/definition/run'
import { runsOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { movedBetween, type LaneReading } from '@tide/core/pace/lane-reading'
import { runColumns, runsCsv, type RunColumn, type RunColumnType } from '@tide/core/runs/table'
import { readingOf } from '@tide/engine/lane-figures'
import { parquetWriteBuffer } from 'hyparquet-writer'
import { idSchema } from '../ids.ts'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { valid } from '../validate.ts'

const LISTED = 200
const IN_A_FILE = 20_000
/** Longer spans are told by the readings of each hour. */
const BY_MINUTES_UP_TO = 2 * 86_400 - 60

const runsSchema = {
  type: 'object',
  properties: {
    pipeline: { ...idSchema, title: 'pipeline' },
    kind: { enum: RUN_KINDS, title: 'kind' },
    days: { type: 'number', title: 'days', exclusiveMinimum: 0, maximum: 400 },
    form: { enum: ['csv', 'parquet'], title: 'form', default: 'csv' },
  },
}

interface Asked {
  pipeline?: string
  kind?: RunKind
  days?: number
  form: 'csv' | 'parquet'
}

const spanSchema = {
  type: 'object',
  properties: {
    seconds: { type: 'number', title: 'seconds', minimum: 60, maximum: 40 * 86_400, default: 300 },
  },
}

const PARQUET: Record<RunColumnType, 'STRING' | 'INT64' | 'DOUBLE' | 'TIMESTAMP'> = {
  text: 'STRING',
  integer: 'INT64',
  number: 'DOUBLE',
  time: 'TIMESTAMP',
}

export function runRoutes(router: Router, services: Services): void {
  const { store } = services

  const runs = async ({ pipeline, kind, days }: Asked, limit: number): Promise<RunAnswer[]> => {
    const names = new Map((await store.pipelines.list()).map(({ id, definition }) => [id, definition.name]))
    const found = await store.runs.list(
      {
        ...(pipeline === undefined ? {} : { pipeline }),
        ...(kind === undefined ? {} : { kinds: [kind] }),
        ...(days === undefined ? {} : { since: new Date(Date.now() - days * 86_400_000).toISOString() }),
      },
      limit,
    )
    return found.map(({ of, ...run }) => ({ ...run, pipeline: of, pipelineName: names.get(of) ?? of }))
  }

  /** The newest first. */
  router.get('/runs', async ctx => {
    ctx.body = await runs(askedOf(ctx.query), LISTED)
  })

  router.get('/runs/file', async ctx => {
    const asked = askedOf(ctx.query)
    const columns = runColumns(await runs(asked, IN_A_FILE), Date.now())
    ctx.attachment(`runs-${new Date().toISOString().slice(0, 10)}.${asked.form}`)
    ctx.type = asked.form === 'csv' ? 'text/csv; charset=utf-8' : 'application/vnd.apache.parquet'
    ctx.body = asked.form === 'csv' ? runsCsv(columns) : parquetOf(columns)
  })

  /** What has landed in each lane in the last so many seconds. */
  router.get('/pipelines/:id/lane-spans', async ctx => {
    const record = await pipelineRecord(services, ctx.params.id!)
    const { seconds } = valid<{ seconds: number }>(spanSchema, numbered(ctx.query, ['seconds']), 'Span')
    ctx.body = await laneSpans(services, record, seconds)
  })
}

function askedOf(query: Record<string, unknown>): Asked {
  return valid<Asked>(runsSchema, numbered(query, ['days']), 'Runs')
}

function numbered(query: Record<string, unknown>, numbers: readonly string[]): Record<string, unknown> {
  const given = Object.entries(query).filter(([, value]) => value !== '')
  return Object.fromEntries(
    given.map(([name, value]) => [name, numbers.includes(name) ? Number(value) : value]),
  )
}

function parquetOf(columns: readonly RunColumn[]): Buffer {
  return Buffer.from(
    parquetWriteBuffer({
      columnData: columns.map(({ name, type, values }) => ({
        name,
        type: PARQUET[type],
        data: values.map(value =>
          value === null || type === 'text'
            ? value
            : type === 'time'
              ? new Date(value)
              : type === 'integer'
                ? BigInt(value)
                : value,
        ),
      })),
    }),
  )
}

/** Between the reading before the span and what the pipeline has come to now. */
async function laneSpans(
  { store, engine }: Services,
  record: PipelineRecord,
  seconds: number,
): Promise<LaneSpan[]> {
  const now = Date.now()
  const resolution = seconds <= BY_MINUTES_UP_TO ? 60 : 3600
  const spans: LaneSpan[] = []
  for (const run of runsOf(record)) {
    const kept = await store.history.laneFigures(run.id, resolution, now - seconds * 1000)
    const { lanes } = await engine.status(run.id)
    for (const lane of lanes) {
      const present = readingOf(lane, now)
      const readings: LaneReading[] = [...(kept.get(present.table) ?? []), present]
      const moved = movedBetween(readings)
      spans.push({
        ...moved,
        table: present.table,
        origin: run.origin,
        since: new Date(readings[0]!.at).toISOString(),
      })
    }
  }
  return spans
}
