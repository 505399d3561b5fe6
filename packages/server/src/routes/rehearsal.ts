/** Real rows through the real shaping, with nothing written. */
import type Router from '@koa/router'
import type { Grid } from '@tide/core/api/browse'
import type { RehearsedRows } from '@tide/core/api/rehearsal'
import { Failure } from '@tide/core/failure'
import { connectionOf } from '@tide/core/definition/origins'
import type { Lane } from '@tide/core/plan/lane'
import { hinders } from '@tide/core/plan/note'
import { datasetNameSchema, type DatasetName } from '@tide/core/records/dataset'
import type { Value } from '@tide/core/records/value'
import { predicateOf } from '@tide/core/scope/predicate'
import { NoValue } from '@tide/core/expression/values'
import { madeColumns, type Coming, type Made } from '@tide/core/shape/written'
import { keyedHash } from '@tide/engine/keyed-hash'
import { planFor } from '../plan.ts'
import type { Services } from '../services.ts'
import { leaving } from './query.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'

/** So many are looked at for what is in scope, and so many shown. */
const LOOKED = 10_000
const SHOWN = 10
const TIMEOUT_MS = 10_000

const rehearsalSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['definition', 'table'],
  properties: { definition: { type: 'object' }, table: datasetNameSchema },
}

export function rehearsalRoutes(router: Router, services: Services): void {
  router.post('/rehearsal', async ctx => {
    const { definition: asked, table } = valid<{ definition: object; table: DatasetName }>(
      rehearsalSchema,
      ctx.request.body,
      'Rehearsal',
    )
    const definition = validDefinition(asked)
    const alone = { ...definition, tables: [table], without: [], patterns: [] }
    const { lanes, notes } = await planFor(services, alone, { pipeline: undefined, fresh: false, runs: true })
    const [lane] = lanes
    // What is wrong at the target does not keep anybody from seeing what would be brought there.
    const wrong = notes.find(({ level, section }) => level === 'refused' && section === 'columns')
    if (!lane || wrong) {
      const refusal = wrong ?? notes.find(hinders)
      throw new Failure(
        'refused',
        refusal?.message ?? 'There is no plan yet.',
        refusal?.remedy ?? 'Choose both sides.',
      )
    }
    const from = connectionOf(definition, lane)
    const limits = {
      line: `${from} looks`,
      atOnce: 2,
      maxRows: LOOKED,
      timeoutMs: TIMEOUT_MS,
      signal: leaving(ctx),
    }
    const grid = await services.questions.ask(limits, limits =>
      services.sessions.use(from, session => session.preview(table, limits)),
    )
    ctx.body = rehearsed(lane, grid, services.store.maskKey)
  })
}

function rehearsed(lane: Lane, grid: Grid, maskKey: Uint8Array): RehearsedRows {
  const { reads, writes, scope } = lane
  const places = reads.map(({ name }) => grid.columns.findIndex(column => column.name === name))
  const made = madeColumns(lane, { origin: lane.origin ?? '', hash: keyedHash(maskKey) })
  const coming: Coming = {
    op: 'copy',
    committedAt: null,
    position: null,
    landedAt: new Date().toISOString(),
  }
  const predicate = scope && predicateOf(scope, reads)
  const takesPart = (row: readonly Value[]) =>
    !predicate || ('test' in predicate && held(() => predicate.test(row) === true))
  const rows = grid.rows.map(row => places.map(place => row[place] ?? null))
  const parts = rows.map(takesPart)
  return {
    columns: writes.map(({ name, nativeType, value }, i) => ({
      name,
      type: nativeType,
      source: sourceOf(made[i]!, reads)?.name ?? null,
      taken: value.from === 'column',
    })),
    rows: rows.slice(0, SHOWN).map((row, n) => ({
      source: made.map(({ places: [place], whole }) => (place === undefined || whole ? null : row[place]!)),
      target: targetOf(parts[n]!, made, row, coming),
    })),
    inScope: parts.filter(part => part === true).length,
    looked: rows.length,
    all: grid.cut === null,
  }
}

/** The one column that it is made of, if there is one. */
function sourceOf({ places, whole }: Made, reads: Lane['reads']): Lane['reads'][number] | undefined {
  return whole || places[0] === undefined ? undefined : reads[places[0]]
}

type Misfit = { misfit: string }

/** Null: it is not in scope. */
function targetOf(
  takesPart: boolean | Misfit,
  made: readonly Made[],
  row: readonly Value[],
  coming: Coming,
): (string | null | Misfit)[] | null {
  if (takesPart === false) return null
  return made.map(({ make }) => (takesPart === true ? held(() => make(row, coming) ?? null) : takesPart))
}

/** Where there is no value, it is said why: such a row would stop the pipeline. */
function held<T>(make: () => T): T | Misfit {
  try {
    return make()
  } catch (thrown) {
    if (thrown instanceof NoValue) return { misfit: thrown.message }
    throw thrown
  }
}
