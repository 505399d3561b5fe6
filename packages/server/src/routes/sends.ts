/** Pipelines that send: what stands in their way, what a run would do, what was sent. */
import type Router from '@koa/router'
import type { SaidByHand, SendDeed } from '@tide/core/api/send'
import type { SendLook } from '@tide/core/api/send-look'
import type { SendDefinition } from '@tide/core/definition/send'
import { appDescriptionSchema } from '@tide/core/app/description'
import { Failure } from '@tide/core/failure'
import { csvLine } from '@tide/core/records/csv'
import { placeOf } from '@tide/core/send/place'
import { proposeFields } from '@tide/core/send/propose'
import { handEdits } from '@tide/engine/shapes/send/look'
import { foresee, sidesOf } from '@tide/engine/shapes/send/foresee'
import { sourceOfSend } from '@tide/engine/shapes/send/source'
import type { SentState } from '@tide/connectors/contract/sent'
import { idSchema } from '../ids.ts'
import { pipelineRecord } from '../pipeline-record.ts'
import { lookAtSides, sendNotes } from '../send-plan.ts'
import type { Services } from '../services.ts'
import { validDefinition } from '../valid-definition.ts'
import { valid } from '../validate.ts'
import { leaving } from './query.ts'

/** Of each kind, so many are shown. */
const SHOWN = 50
const RECORDS = 200
const FILE_RESULTS = 100_000

const lookSchema = {
  type: 'object',
  required: ['definition'],
  additionalProperties: false,
  properties: {
    definition: { type: 'object' },
    pipeline: idSchema,
    find: { type: 'string', maxLength: 200, default: '' },
  },
}

const keys = {
  type: 'array',
  maxItems: 10_000,
  items: { type: 'array', minItems: 1, maxItems: 16, items: { type: 'string', maxLength: 10_000 } },
}

const count = { type: 'integer', minimum: 0 }

const deedSchema = {
  type: 'object',
  required: ['deed'],
  additionalProperties: false,
  properties: {
    deed: { type: 'string', enum: ['run', 'again', 'try', 'undo', 'pass', 'correct', 'leave out'] },
    keys,
    values: {
      type: 'object',
      minProperties: 1,
      maxProperties: 500,
      additionalProperties: { type: ['string', 'null'], maxLength: 100_000 },
    },
    note: { type: 'string', maxLength: 500 },
    most: {
      type: 'object',
      required: ['create', 'change', 'remove'],
      additionalProperties: false,
      properties: { create: count, change: count, remove: count },
    },
  },
}

const findSchema = {
  type: 'object',
  properties: {
    find: { type: 'string', maxLength: 200, default: '' },
    run: { type: 'string', pattern: '^[a-z0-9 ]{0,40}$', default: '' },
    refused: { type: 'string', enum: ['', 'true'], default: '' },
  },
}

export function sendRoutes(router: Router, services: Services): void {
  const { store, sessions, engine, sent } = services

  /** How descriptions of apps are written: JSON Schema. */
  router.get('/app-description.schema.json', ctx => {
    ctx.body = {
      $schema: 'https://json-schema.org/draft/2020-12/schema',
      title: 'Description of an app',
      ...appDescriptionSchema,
    }
  })

  const asked = (body: unknown) => {
    const { definition, ...rest } = valid<{ definition: object; pipeline?: string; find: string }>(
      lookSchema,
      body,
      'Send',
    )
    const sending = validDefinition(definition)
    if (sending.shape !== 'send')
      throw new Failure('refused', 'The pipeline sends nothing into an app.', 'Ask for its plan instead.')
    return { definition: sending, ...rest }
  }

  const withState = async <T>(
    { id, definition }: { id: string; definition: SendDefinition },
    work: (state: SentState) => Promise<T>,
  ): Promise<T> => {
    const state = await sent.open(id, placeOf(definition))
    try {
      return await work(state)
    } finally {
      await state.close()
    }
  }

  const sending = async (id: string) => {
    const record = await pipelineRecord(services, id)
    const { definition } = record
    if (definition.shape === 'send') return { id: record.id, definition }
    throw new Failure(
      'refused',
      `“${record.definition.name}” sends nothing into an app.`,
      'Ask one that does.',
    )
  }

  /** Both sides, what stands in the way, and what could be joined. */
  router.post('/sends/look', async ctx => {
    const { definition, pipeline } = asked(ctx.request.body)
    const sides = await lookAtSides(services, definition, pipeline)
    const { columns, objects } = sides.looked
    const object = objects?.find(({ name }) => name === definition.object)
    ctx.body = {
      notes: sendNotes(definition, sides),
      columns: columns?.map(({ name, type, nullable }) => ({ name, type, nullable })) ?? null,
      objects: objects ?? null,
      proposed:
        columns && object
          ? proposeFields(
              columns,
              object,
              definition.fields.map(({ field }) => field),
            )
          : { fields: [], meets: [] },
    } satisfies SendLook
  })

  /** What a run would do as things are now; nothing is written. */
  const foreseen = (id: string, definition: SendDefinition, find: string, signal: AbortSignal) =>
    withState({ id, definition }, state =>
      sessions.use(definition.from, from =>
        sessions.use(definition.to, async ({ app }) => {
          if (!app) throw new Failure('refused', 'The target is no app.', 'Choose a connection to one.')
          const source = await sourceOfSend(definition, from, store.queries, signal)
          const sides = await sidesOf(definition, source, app)
          const now = () => new Date().toISOString()
          return foresee(sides, { state, now, tell: () => {}, signal }, { each: SHOWN, find })
        }),
      ),
    )

  router.post('/sends/foresee', async ctx => {
    const { definition, pipeline, find } = asked(ctx.request.body)
    ctx.body = await foreseen(pipeline ?? 'unsaved', definition, find, leaving(ctx))
  })

  router.get('/pipelines/:id/differences', async ctx => {
    const { id, definition } = await sending(ctx.params.id!)
    const { find } = valid<{ find: string }>(findSchema, { ...ctx.query }, 'Differences')
    ctx.body = await foreseen(id, definition, find, leaving(ctx))
  })

  /** Which records of the app others have changed since we sent them. */
  router.get('/pipelines/:id/hands', async ctx => {
    const { id, definition } = await sending(ctx.params.id!)
    const { to, object: name } = definition
    const signal = leaving(ctx)
    ctx.body = await withState({ id, definition }, state =>
      sessions.use(to, async ({ app }) => {
        const object = (await app?.objects())?.find(one => one.name === name)
        if (!app || !object)
          throw new Failure('refused', `The app has no object “${name}” any more.`, 'Look at the setup.')
        return handEdits({ app, object, state, signal })
      }),
    )
  })

  router.get('/pipelines/:id/sent', async ctx => {
    const one = await sending(ctx.params.id!)
    const { find } = valid<{ find: string }>(findSchema, { ...ctx.query }, 'Records')
    ctx.body = await withState(one, state => state.records({ find, limit: RECORDS }))
  })

  router.get('/pipelines/:id/results', async ctx => {
    const one = await sending(ctx.params.id!)
    const { find, run, refused } = valid<{ find: string; run: string; refused: string }>(
      findSchema,
      { ...ctx.query },
      'Results',
    )
    ctx.body = await withState(one, state =>
      state.results({ find, run, refused: refused === 'true', limit: RECORDS }),
    )
  })

  /** All that is kept of what was sent, as CSV: a line for each record of each run. */
  router.get('/pipelines/:id/results/file', async ctx => {
    const one = await sending(ctx.params.id!)
    const results = await withState(one, state => state.results({ limit: FILE_RESULTS }))
    const head = [
      'at',
      'run',
      'what',
      'key',
      'id',
      'before',
      'sent',
      'refused field',
      'refused reason',
      'note',
    ]
    const lines = results.map(({ at, run, op, key, id, was, values, refused, note }) => {
      const sides = [was, values].map(side => side && JSON.stringify(side))
      return csvLine([
        at,
        run,
        op,
        key.join(', '),
        id,
        ...sides,
        refused?.field ?? null,
        refused?.reason ?? null,
        note,
      ])
    })
    ctx.type = 'text/csv'
    ctx.body = csvLine(head) + lines.join('')
  })

  router.get('/pipelines/:id/refused', async ctx => {
    const one = await sending(ctx.params.id!)
    ctx.body = await withState(one, state => state.held(RECORDS))
  })

  /** What people have said of single rows. */
  router.get('/pipelines/:id/by-hand', async ctx => {
    const one = await sending(ctx.params.id!)
    const said = await withState(one, state => state.byHand())
    ctx.body = said.map(({ key, values, note, at }) => ({ key, values, note, at })) satisfies SaidByHand[]
  })

  router.post('/pipelines/:id/send', async ctx => {
    const { id, definition } = await sending(ctx.params.id!)
    const deed = valid<SendDeed>(deedSchema, ctx.request.body ?? {}, 'Send')
    if ((deed.deed === 'try' || deed.deed === 'correct') && deed.keys?.length !== 1)
      throw new Failure('refused', 'One record at a time.', 'Name its key, and no other.')
    if (deed.deed === 'leave out' && (!deed.keys?.length || !deed.note?.trim()))
      throw new Failure(
        'refused',
        'It is not said which rows are left out, or why.',
        'Name their keys, and write a note.',
      )
    if (deed.deed === 'correct') {
      const strange = Object.keys(deed.values ?? {}).find(
        name => !definition.fields.some(({ field }) => field === name),
      )
      if (!deed.values || strange !== undefined)
        throw new Failure(
          'refused',
          strange === undefined ? 'No value is given.' : `The pipeline sends no field “${strange}”.`,
          `Give values of ${definition.fields.map(({ field }) => field).join(', ')}.`,
        )
    }
    if (deed.deed === 'pass' && !deed.most)
      throw new Failure(
        'refused',
        'It is not said how much may pass.',
        'Look at the differences, and name their numbers.',
      )
    const errand = await engine.inTurn(id, () => engine.deeds.send(id, deed))
    ctx.body = { errand, status: await engine.status(id) }
  })
}
