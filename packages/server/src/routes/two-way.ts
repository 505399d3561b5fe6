/** Pipelines that keep two places in step: what stands in the way, what a pass would do, their pairs. */
import type Router from '@koa/router'
import type { Session } from '@tide/connectors/contract/session'
import type { KeptLine, PairSeen, TwoWayDeed, TwoWayLook, UndoForeseen, Undone } from '@tide/core/api/two-way'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import { Failure } from '@tide/core/failure'
import type { Side } from '@tide/core/merge/rule'
import { SIDES } from '@tide/core/two-way/lane'
import { restoringOf, type KeptPart } from '@tide/core/two-way/restore'
import { planTwoWay } from '@tide/core/two-way/plan'
import { fieldsToMake, type MadeLook, type Wanted } from '@tide/core/app/made'
import { proposeJoins } from '@tide/core/two-way/propose'
import { MOST_UNDONE, undoingOf, writtenHalves } from '@tide/core/two-way/undo'
import type { Undoing } from '@tide/core/two-way/undoing'
import { startersFor } from '@tide/core/two-way/starters'
import { hinders, someOf } from '@tide/core/plan/note'
import { noSide, placesOf, sideOf } from '@tide/engine/shapes/two-way/places'
import { rehearse } from '@tide/engine/shapes/two-way/rehearse'
import { Readable } from 'node:stream'
import { idSchema } from '../ids.ts'
import { pipelineRecord } from '../pipeline-record.ts'
import type { Services } from '../services.ts'
import { lookAtPlaces } from '../two-way-plan.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'
import { leaving } from './query.ts'

/** Of each kind, so many are shown. */
const SHOWN = 30
const PAIRS = 200
const TRAIL = 500

const lookSchema = {
  type: 'object',
  required: ['definition'],
  additionalProperties: false,
  properties: { definition: { type: 'object' }, pipeline: idSchema },
}

const findSchema = {
  type: 'object',
  properties: {
    find: { type: 'string', maxLength: 200, default: '' },
    lane: { type: 'string', maxLength: 500, default: '' },
    only: { type: 'string', enum: ['', 'held', 'waiting', 'asleep', 'alone'], default: '' },
  },
}

const keptSchema = {
  type: 'object',
  required: ['lane', 'side'],
  properties: {
    lane: { type: 'string', maxLength: 500 },
    side: { type: 'string', enum: ['a', 'b'] },
  },
}

const writtenSchema = {
  type: 'object',
  properties: { run: { type: 'string', pattern: '^[a-z0-9 ]{1,40}$' } },
}

const value = { type: ['string', 'null'], maxLength: 100_000 }
const pairs = {
  type: 'array',
  minItems: 1,
  maxItems: 1000,
  items: { type: 'string', pattern: '^[a-z0-9 ]{1,40}$' },
}
const side = { type: 'string', enum: ['a', 'b'] }
const closed = (properties: Record<string, object>, required = Object.keys(properties)) => ({
  type: 'object',
  additionalProperties: false,
  required,
  properties,
})

interface MakeAsked {
  connection: string
  from: string
  object: string
  wanted: Wanted
  make: boolean
}

const name = { type: 'string', minLength: 1, maxLength: 200 }

const makeSchema = closed({
  connection: idSchema,
  from: idSchema,
  object: { type: 'string', minLength: 1, maxLength: 500 },
  wanted: closed(
    {
      into: {
        anyOf: [
          closed({
            table: { ...name, maxLength: 64 },
            schema: { ...name, type: ['string', 'null'], maxLength: 64 },
          }),
          closed({ place: { ...name, maxLength: 500 } }),
        ],
      },
      fields: { type: 'array', minItems: 1, maxItems: 500, items: name },
      link: { ...name, type: ['string', 'null'] },
    },
    ['into', 'link'],
  ),
  make: { type: 'boolean' },
})

const decisionSchema = {
  anyOf: [
    closed({
      join: { type: 'string', maxLength: 500 },
      decided: { anyOf: [closed({ take: side }), closed({ type: value }), closed({ put: value, on: side })] },
    }),
    closed({ same: { type: ['string', 'null'], maxLength: 1000 } }),
    closed({ wins: { type: 'string', enum: ['the deletion', 'the edit'] } }),
  ],
}

const is = (deed: string) => ({ type: 'string', enum: [deed] })

const moment = { type: 'string', pattern: '^\\d{4}-\\d{2}-\\d{2}T\\d{2}:\\d{2}:\\d{2}(\\.\\d{1,9})?Z$' }
const undoneSchema = {
  type: 'object',
  anyOf: [
    closed({ run: { type: 'string', pattern: '^[a-z0-9 ]{1,40}$' } }),
    closed({ from: moment, to: moment }),
  ],
}

const deedSchema = {
  type: 'object',
  required: ['deed'],
  anyOf: [
    closed({ deed: is('pass'), sweep: { type: 'boolean' } }, ['deed']),
    closed({ deed: is('decide'), pairs, decision: decisionSchema }),
    closed({ deed: is('try again'), pairs }),
    closed({ deed: is('take apart'), pairs }),
    closed({ deed: is('undo'), of: undoneSchema }),
    closed({ deed: is('keep') }),
    closed({ deed: is('restore'), point: idSchema }),
  ],
}

async function* linesOf(parts: AsyncIterable<KeptPart>): AsyncGenerator<string> {
  for await (const { records } of parts)
    yield records.map(([id, values]) => `${JSON.stringify({ id, values } satisfies KeptLine)}\n`).join('')
}

export function twoWayRoutes(router: Router, services: Services): void {
  const { store, sessions, engine } = services

  const asked = (body: unknown) => {
    const { definition, ...rest } = valid<{ definition: object; pipeline?: string }>(
      lookSchema,
      body,
      'Two-way',
    )
    const twoWay = validDefinition(definition)
    if (twoWay.shape !== 'two-way')
      throw new Failure('refused', 'The pipeline keeps no two places in step.', 'Ask for its plan instead.')
    return { definition: twoWay, ...rest }
  }

  const twoWay = async (id: string) => {
    const record = await pipelineRecord(services, id)
    const { definition } = record
    if (definition.shape === 'two-way') return { id: record.id, definition }
    throw new Failure(
      'refused',
      `“${record.definition.name}” keeps no two places in step.`,
      'Ask one that does.',
    )
  }

  /** Both sides, what stands in the way, and what could be joined. */
  router.post('/two-way/look', async ctx => {
    const { definition, pipeline } = asked(ctx.request.body)
    const { looked, notes, captures, makes } = await lookAtPlaces(services, definition, pipeline)
    const { a, b } = looked.objects
    ctx.body = {
      notes: [...notes, ...planTwoWay({ definition, ...looked })],
      objects: { a: a ? [...a] : null, b: b ? [...b] : null },
      proposed: definition.lanes.map(lane => {
        const objects = {
          a: a?.find(({ name }) => name === lane.a),
          b: b?.find(({ name }) => name === lane.b),
        }
        return objects.a && objects.b
          ? proposeJoins(lane, { a: objects.a, b: objects.b }, definition.lanes)
          : []
      }),
      captures,
      makes,
      starters: a && b ? startersFor({ called: looked.called, objects: { a, b }, makes }) : [],
    } satisfies TwoWayLook
  })

  const sideFor = async (connection: string, session: Session) => {
    const name = (await store.connections.get(connection))?.name ?? connection
    const side = sideOf({ name, session, now: Date.now })
    if (!side) throw noSide(name)
    return side
  }

  /** A place, or fields of one, for the records of an object of the other side: how it is made; `make`: and makes it. */
  router.post('/two-way/make', async ctx => {
    const { connection, from, object, wanted, make } = valid<MakeAsked>(makeSchema, ctx.request.body, 'Make')
    const { found, called } = await sessions.use(from, async session => {
      const side = await sideFor(from, session)
      const objects = await side.objects()
      return { found: objects.find(({ name }) => name === object), called: side.name }
    })
    if (!found) throw new Failure('refused', `${called} has no “${object}”.`, 'Choose a place that it has.')
    const { into, fields, link } = wanted
    const can = fieldsToMake(found)
    const strange = fields?.find(name => !can.some(one => one.name === name))
    if (strange !== undefined)
      throw new Failure(
        'refused',
        `No field can be made for “${strange}” of ${found.title}.`,
        `Choose of ${someOf(can.map(({ name }) => name))}.`,
      )
    ctx.body = await sessions.use(connection, async session => {
      const side = await sideFor(connection, session)
      const chosen = can.filter(({ name }) => fields?.includes(name) ?? true)
      const { make: carryOut, ...planned } = await side.toMake({ into, fields: chosen, link })
      const place = 'place' in into ? into.place : into.table
      const made = make ? await carryOut(leaving(ctx)) : { place }
      return { ...planned, ...made } satisfies MadeLook
    })
  })

  const placesFor = (definition: TwoWayDefinition) =>
    sessions.use(definition.from, a =>
      sessions.use(definition.to, async b =>
        placesOf(definition, { a: await sideFor(definition.from, a), b: await sideFor(definition.to, b) }),
      ),
    )

  const rehearsed = (id: string | undefined, definition: TwoWayDefinition, signal: AbortSignal) =>
    sessions.use(definition.from, a =>
      sessions.use(definition.to, async b =>
        rehearse({
          places: await placesOf(definition, {
            a: await sideFor(definition.from, a),
            b: await sideFor(definition.to, b),
          }),
          definition,
          pairs: {
            find: (lane, of, keys) =>
              id === undefined ? Promise.resolve([]) : store.pairs.find(id, lane, of, keys),
          },
          now: Date.now(),
          signal,
          each: SHOWN,
        }),
      ),
    )

  /** What the first pass would do as things are now; nothing is written. */
  router.post('/two-way/foresee', async ctx => {
    const { definition, pipeline } = asked(ctx.request.body)
    const { looked, notes } = await lookAtPlaces(services, definition, pipeline)
    const refusal = [...notes, ...planTwoWay({ definition, ...looked })].find(
      note => hinders(note) && note.section !== 'name',
    )
    if (refusal) throw new Failure('refused', refusal.message, refusal.remedy)
    ctx.body = await rehearsed(pipeline, definition, leaving(ctx))
  })

  router.get('/pipelines/:id/rehearsed', async ctx => {
    const { id, definition } = await twoWay(ctx.params.id!)
    ctx.body = await rehearsed(id, definition, leaving(ctx))
  })

  router.get('/pipelines/:id/pairs', async ctx => {
    const { id } = await twoWay(ctx.params.id!)
    const { find, lane, only } = valid<{ find: string; lane: string; only: '' | 'held' }>(
      findSchema,
      { ...ctx.query },
      'Pairs',
    )
    ctx.body = await store.pairs.list(id, { find, lane, only, limit: PAIRS })
  })

  router.get('/pipelines/:id/pairs/:pair/trail', async ctx => {
    const { id } = await twoWay(ctx.params.id!)
    ctx.body = await store.pairs.trail(id, { pair: String(ctx.params.pair), limit: TRAIL })
  })

  /** Pairs of other lanes whose records link to those of this one: such as what was said of it. */
  router.get('/pipelines/:id/pairs/:pair/linked', async ctx => {
    const { id, definition } = await twoWay(ctx.params.id!)
    const [pair] = await store.pairs.get(id, [String(ctx.params.pair)])
    if (!pair) throw new Failure('refused', 'That pair is there no more.', 'Choose one from the list.')
    const { lanes } = await placesFor(definition)
    const linked: PairSeen[] = []
    for (const lane of lanes) {
      const by = lane.throughs.flatMap((through, i) =>
        through && 'pairs' in through && through.pairs === pair.lane
          ? SIDES.flatMap(side => {
              const value = pair.halves[side]?.id
              return value === undefined ? [] : [{ side, field: lane.merge.joins[i]![side], value }]
            })
          : [],
      )
      if (by.length > 0) linked.push(...(await store.pairs.linked(id, lane.name, by, PAIRS)))
    }
    ctx.body = linked
  })

  router.get('/pipelines/:id/written', async ctx => {
    const { id } = await twoWay(ctx.params.id!)
    const { run } = valid<{ run?: string }>(writtenSchema, { ...ctx.query }, 'Written')
    ctx.body = await store.pairs.trail(id, { ...(run === undefined ? {} : { run }), limit: TRAIL })
  })

  /** What undoing it would do. */
  router.get('/pipelines/:id/undone', async ctx => {
    const { id, definition } = await twoWay(ctx.params.id!)
    const of = valid<Undone>(undoneSchema, { ...ctx.query }, 'Undone')
    const halves = writtenHalves(await store.pairs.trail(id, { ...of, limit: MOST_UNDONE }))
    const places = await placesFor(definition)
    const pairs = await store.pairs.get(id, [...new Set(halves.map(({ pair }) => pair))])
    const known = new Map(pairs.map(pair => [pair.id, pair]))
    const foreseen: UndoForeseen = { change: 0, delete: 0, create: 0, leave: 0, rows: [] }
    for (const half of halves) {
      const { side, record } = half
      const lane = places.lanes.find(({ name }) => name === half.lane)
      const now = known.get(half.pair)?.halves[side]
      const undoing: Undoing = lane ? undoingOf(lane, half, now) : { does: 'leave', why: 'gone' }
      foreseen[undoing.does]++
      if (foreseen.rows.length === SHOWN) continue
      const label = lane?.objects[side].label
      const before = half.trail.find(({ field }) => field !== null && field === label)?.was
      foreseen.rows.push({ side, record, label: (label && (now?.record[label] ?? before)) ?? null, undoing })
    }
    ctx.body = foreseen
  })

  router.get('/pipelines/:id/restore-points', async ctx => {
    const { id } = await twoWay(ctx.params.id!)
    ctx.body = await store.restorePoints.list(id)
  })

  const pointOf = async (id: string, asked: unknown) => {
    const point = valid<string>(idSchema, asked, 'Restore point')
    const found = (await store.restorePoints.list(id)).find(one => one.id === point)
    if (found) return found
    throw new Failure('refused', 'That restore point is there no more.', 'Choose one from the list.')
  }

  /** What writing back would do, with the records as they were seen last. */
  router.get('/pipelines/:id/restore-points/:point/foreseen', async ctx => {
    const { id, definition } = await twoWay(ctx.params.id!)
    const point = await pointOf(id, ctx.params.point)
    const places = await placesFor(definition)
    const foreseen: UndoForeseen = { change: 0, delete: 0, create: 0, leave: 0, rows: [] }
    for await (const { lane: name, side, records } of store.restorePoints.records(id, point.id)) {
      const lane = places.lanes.find(one => one.name === name)
      if (!lane) continue
      const was = new Map(records)
      for (const { halves, state } of await store.pairs.find(id, name, side, [...was.keys()])) {
        if (!halves.a || !halves.b || state === 'apart') continue
        const half = halves[side]!
        const undoing = restoringOf(lane, side, was.get(half.id)!, half)
        if (undoing.does !== 'change') continue
        foreseen.change++
        const { label } = lane.objects[side]
        if (foreseen.rows.length < SHOWN)
          foreseen.rows.push({ side, record: half.id, label: (label && half.record[label]) ?? null, undoing })
      }
    }
    ctx.body = foreseen
  })

  /** The records of one side of a lane as they were kept, a line each. */
  router.get('/pipelines/:id/restore-points/:point/records', async ctx => {
    const { id, definition } = await twoWay(ctx.params.id!)
    const point = await pointOf(id, ctx.params.point)
    const { lane, side } = valid<{ lane: string; side: Side }>(keptSchema, { ...ctx.query }, 'Records')
    const parts = store.restorePoints.records(id, point.id, { lane, side })
    const name = `${definition.name} ${lane} ${side} ${point.at}.jsonl`.replace(/[^\w. -]+/g, '-')
    ctx.type = 'application/x-ndjson'
    ctx.set('Content-Disposition', `attachment; filename="${name}"`)
    ctx.body = Readable.from(linesOf(parts))
  })

  router.post('/pipelines/:id/two-way', async ctx => {
    const { id } = await twoWay(ctx.params.id!)
    const deed = valid<TwoWayDeed>(deedSchema, ctx.request.body ?? {}, 'Two-way')
    const errand = await engine.inTurn(id, () => engine.deeds.twoWay(id, deed))
    ctx.body = { errand, status: await engine.status(id) }
  })
}
