/** Real rows through the real shaping, with nothing written. */
import type Router from '@koa/router'
import type { RehearsedRows } from '@tide/core/api/rehearsal'
import { Failure } from '@tide/core/failure'
import { asReplication } from '@tide/core/definition/definition'
import { connectionOf } from '@tide/core/definition/origins'
import type { Lane } from '@tide/core/plan/lane'
import { hinders, type PlanNote } from '@tide/core/plan/note'
import { datasetNameSchema, type DatasetName } from '@tide/core/records/dataset'
import type { QueryLimits, Session } from '@tide/connectors/contract/session'
import type { Row, Value } from '@tide/core/records/value'
import { scanOf } from '../scan.ts'
import { predicateAsOf } from '@tide/core/scope/predicate'
import { NoValue } from '@tide/core/expression/values'
import { madeColumns, type Coming, type Made } from '@tide/core/shape/written'
import { keyedHash } from '@tide/engine/keyed-hash'
import { planFor } from '../plan.ts'
import { newId, type Services } from '../services.ts'
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

const fullSchema = {
  type: 'object',
  additionalProperties: false,
  required: ['definition'],
  properties: { definition: { type: 'object' } },
}

export function rehearsalRoutes(router: Router, services: Services): void {
  router.post('/rehearsal', async ctx => {
    const { definition: asked, table } = valid<{ definition: object; table: DatasetName }>(
      rehearsalSchema,
      ctx.request.body,
      'Rehearsal',
    )
    const definition = asReplication(validDefinition(asked))
    const alone = { ...definition, tables: [table], without: [], patterns: [] }
    const { lanes, notes } = await planFor(services, alone, { pipeline: undefined, fresh: false, runs: true })
    const lane = refuseUnshaped(lanes, notes)
    const from = connectionOf(definition, lane)
    const limits = {
      line: `${from} looks`,
      atOnce: 2,
      maxRows: LOOKED,
      timeoutMs: TIMEOUT_MS,
      signal: leaving(ctx),
    }
    const looked = await services.questions.ask(limits, limits =>
      services.sessions.use(from, session => firstRows(session, lane, limits)),
    )
    ctx.body = rehearsed(lane, looked, services.store.maskKey)
  })

  /** All rows of all lanes. */
  router.post('/rehearsals', async ctx => {
    const { definition: asked } = valid<{ definition: object }>(fullSchema, ctx.request.body, 'Rehearsal')
    const definition = asReplication(validDefinition(asked))
    const { lanes, notes } = await planFor(services, definition, {
      pipeline: undefined,
      fresh: false,
      runs: true,
    })
    refuseUnshaped(lanes, notes)
    const { rehearsals, sessions } = services
    const holdsOf = await sessions.use(definition.to, async ({ target }) => target?.profile.holdsOf)
    const connectionFor = (lane: Lane) => connectionOf(definition, lane)
    ctx.status = 201
    ctx.body = rehearsals.begin(newId(), { lanes, connectionOf: connectionFor, holdsOf })
  })

  router.get('/rehearsals/:id', ctx => {
    ctx.body = services.rehearsals.of(ctx.params.id!)
  })

  router.delete('/rehearsals/:id', ctx => {
    services.rehearsals.end(ctx.params.id!)
    ctx.status = 204
  })
}

/** What is wrong at the target does not keep anybody from seeing what would be brought there. Returns the first lane. */
function refuseUnshaped([lane]: readonly Lane[], notes: readonly PlanNote[]): Lane {
  const wrong = notes.find(
    ({ level, section }) => level === 'refused' && (section === 'columns' || section === 'rows'),
  )
  if (lane && !wrong) return lane
  const refusal = wrong ?? notes.find(hinders)
  throw new Failure(
    'refused',
    refusal?.message ?? 'There is no plan yet.',
    refusal?.remedy ?? 'Choose both sides.',
  )
}

interface Looked {
  rows: Row[]
  /** Those were all there are. */
  all: boolean
}

async function firstRows(
  session: Session,
  { source: dataset, reads: columns }: Lane,
  { maxRows, maxBytes, timeoutMs, signal }: QueryLimits,
): Promise<Looked> {
  const rows: Row[] = []
  let size = 0
  for await (const batch of scanOf(session)({ dataset, columns }, { batchRows: 1_000, timeoutMs, signal })) {
    for (const row of batch) {
      if (rows.length === maxRows || size > maxBytes) return { rows, all: false }
      rows.push(row)
      for (const value of row) size += value?.length ?? 0
    }
  }
  return { rows, all: true }
}

function rehearsed(lane: Lane, { rows, all }: Looked, maskKey: Uint8Array): RehearsedRows {
  const { reads, writes, scope } = lane
  const made = madeColumns(lane, { origin: lane.origin ?? '', hash: keyedHash(maskKey) })
  const coming: Coming = {
    op: 'copy',
    committedAt: null,
    position: null,
    landedAt: new Date().toISOString(),
  }
  const predicate = scope && predicateAsOf(scope, reads)(coming.landedAt)
  const takesPart = (row: readonly Value[]) => !predicate || held(() => predicate.test(row) === true)
  const parts = rows.map(takesPart)
  return {
    columns: writes.map(({ name, nativeType, value }, i) => ({
      name,
      type: nativeType,
      source: sourceOf(made[i]!, reads)?.name ?? null,
      taken: value.from === 'column',
    })),
    rows: rows.slice(0, SHOWN).map((row, n) => ({
      source: made.map(({ places: [place], whole }) =>
        place === undefined || whole ? null : (row[place] ?? null),
      ),
      target: targetOf(parts[n]!, made, row, coming),
    })),
    inScope: parts.filter(part => part === true).length,
    looked: rows.length,
    all,
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
