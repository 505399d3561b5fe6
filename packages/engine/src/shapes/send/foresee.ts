/** What a run would do: the rows of now, held against what was sent, and met with the records of the app. Nothing is written there. */
import type { AppSide } from '@tide/connectors/contract/app'
import type { Compared, CompareAsked, SentState, SentTotals } from '@tide/connectors/contract/sent'
import type { SendCounts, SendForeseen, SendPhase } from '@tide/core/api/send'
import type { AppObject } from '@tide/core/app/object'
import { GUARD, type SendDefinition } from '@tide/core/definition/send'
import { Failure } from '@tide/core/failure'
import { hinders } from '@tide/core/plan/note'
import { csvLine } from '@tide/core/records/csv'
import { Hands, type Saying } from '@tide/core/send/by-hand'
import { comparedLine, toldOf } from '@tide/core/send/compared-line'
import { folded, mapper, normal, type References } from '@tide/core/send/mapped'
import { planSend } from '@tide/core/send/plan'
import type { SentSource } from './source.ts'

export interface SendSides {
  definition: SendDefinition
  source: SentSource
  app: AppSide
  object: AppObject
}

/** Throws a Failure for the first thing that stands in the way. */
export async function sidesOf(
  definition: SendDefinition,
  source: SentSource,
  app: AppSide,
): Promise<SendSides> {
  const objects = await app.objects()
  const refusal = planSend({ definition, columns: source.columns, objects, app: app.name }).find(hinders)
  if (refusal) throw new Failure('refused', refusal.message, refusal.remedy)
  return { definition, source, app, object: objects.find(({ name }) => name === definition.object)! }
}

export interface Foreseeing {
  state: SentState
  now(): string
  tell(phase: SendPhase, done: number, of: number | null): void
  signal: AbortSignal
  again?: CompareAsked['again']
  /** Is said of rows as they are now, in the name of a run. */
  saying?: Saying & { run: string }
}

export interface Difference {
  compared: Compared
  counts: SendCounts
  meets: SendForeseen['meets']
  hands: Hands
}

/** Whoever gets it closes what is compared. Throws a Failure where rows cannot be told apart. */
export async function differenceNow(sides: SendSides, foreseeing: Foreseeing): Promise<Difference> {
  const { definition, app, object } = sides
  const { state, tell, signal, again, saying } = foreseeing
  const hands = new Hands(await state.byHand(), saying)
  const references = await referencesOf(sides, signal)
  tell('reading', 0, null)
  const fields = definition.fields.map(({ field, once }) => (once ? `${field}, once` : field))
  const asked = { matches: definition.meets.length, fields, ...(again === undefined ? {} : { again }) }
  const compared = await state.compare(linesOf(sides, { references, hands }, foreseeing), asked)
  try {
    refuseKeys(definition, compared)
    if (saying) await keepSaid(state, hands, saying, foreseeing.now())
    let meets: SendForeseen['meets'] = null
    if (definition.meets.length > 0 && compared.fresh > 0) {
      tell('meeting', 0, null)
      meets = await compared.meet(recordsOf(app, object, definition, foreseeing))
    }
    const counts = await compared.decide(definition)
    return { compared, counts, meets, hands }
  } catch (thrown) {
    await compared.close()
    throw thrown
  }
}

async function keepSaid(
  state: SentState,
  { said }: Hands,
  { keys, run }: Saying & { run: string },
  at: string,
): Promise<void> {
  const missing = keys.find(key => !said.some(one => JSON.stringify(one.key) === JSON.stringify(key)))
  if (missing)
    throw new Failure(
      'refused',
      `The result has no row ${missing.join(', ')} any more.`,
      'Look at the differences again.',
    )
  await state.sayByHand(said, run, at)
}

async function* linesOf(
  { definition, source, object }: SendSides,
  { references, hands }: { references: References; hands: Hands },
  { now, tell, signal }: Foreseeing,
): AsyncGenerator<Uint8Array> {
  const map = mapper(definition, source.columns, object, references)
  const landedAt = now()
  let n = 0
  for await (const rows of source.rows(signal)) {
    let lines = ''
    for (const row of rows) {
      const mapped = map(row, landedAt)
      const sent = hands.corrected(
        mapped,
        () => toldOf(mapped, definition.fields),
        values => map(row, landedAt, values),
      )
      lines += comparedLine(n++, sent, definition.fields)
    }
    if (lines !== '') yield Buffer.from(lines)
    tell('reading', n, null)
  }
  tell('comparing', n, n)
}

/** The app's records as the match keys look at them. */
async function* recordsOf(
  app: AppSide,
  object: AppObject,
  { meets }: SendDefinition,
  { tell, signal }: Foreseeing,
): AsyncGenerator<Uint8Array> {
  let n = 0
  for await (const page of app.list(object.name, { signal })) {
    yield Buffer.from(
      page
        .map(record =>
          csvLine([
            record[object.key] ?? null,
            ...meets.map(match => normal(record[match.field] ?? null, match)),
          ]),
        )
        .join(''),
    )
    n += page.length
    tell('meeting', n, null)
  }
}

/** For fields whose records are found by a name: what is called so once. */
async function referencesOf(
  { definition, object, app }: SendSides,
  signal: AbortSignal,
): Promise<References> {
  const references = new Map<string, Map<string, string>>()
  const objects = await app.objects()
  for (const { field, by } of definition.fields) {
    const refers = object.fields.find(({ name }) => name === field)?.refers
    if (by === undefined || !refers) continue
    const other = objects.find(({ name }) => name === refers)
    if (!other?.fields.some(({ name }) => name === by))
      throw new Failure(
        'refused',
        `${refers} have no field “${by}” to be found by.`,
        'Choose another in the fields’ section.',
      )
    const found = new Map<string, string>()
    const several = new Set<string>()
    for await (const page of app.list(refers, { signal })) {
      for (const record of page) {
        const [name, id] = [record[by], record[other.key]]
        if (!name || !id) continue
        const called = folded(name)
        if (found.has(called)) several.add(called)
        found.set(called, id)
      }
    }
    for (const called of several) found.delete(called)
    references.set(field, found)
  }
  return references
}

function refuseKeys({ key }: SendDefinition, { doubled, keyless }: Compared): void {
  const columns = key.join(', ')
  const [first] = doubled
  if (first)
    throw new Failure(
      'refused',
      `The row key (${columns}) does not tell rows apart: ${first.rows} rows have ${first.key.join(', ')}${doubled.length > 1 ? `, and others are so, too` : ''}.`,
      'Choose columns that are unique together, or group the query by them.',
    )
  if (keyless > 0)
    throw new Failure(
      'refused',
      `${keyless.toLocaleString('en')} rows have nothing in their row key (${columns}).`,
      'Leave such rows out of the query, or choose other columns.',
    )
}

/** More than so many times what is usual is asked about, even where it is no large share. */
const TIMES_USUAL = 3

/** Why somebody is asked before so much is done; null: nobody need be. `totals`: of what was sent so far. */
export function guardSays(
  { guard = GUARD }: Pick<SendDefinition, 'guard'>,
  { create, change, remove }: Pick<SendCounts, 'create' | 'change' | 'remove'>,
  { sent, ran, usual }: Pick<SentTotals, 'sent' | 'ran' | 'usual'>,
): string | null {
  // A first run has nothing that it could be a share of: its rehearsal is what is looked at.
  if (!ran) return null
  const most = Math.max(guard.records, Math.ceil((sent * guard.percent) / 100))
  const said = [
    [create, 'create'],
    [change, 'change'],
    [remove, 'remove'],
  ] as const
  const over = said.filter(([records]) => records > most)
  const strange = said.filter(
    ([records, verb]) => usual && records > guard.records && records > TIMES_USUAL * usual[verb],
  )
  if (over.length === 0 && strange.length > 0)
    return strange
      .map(
        ([records, verb]) =>
          `The run would ${verb} ${records.toLocaleString('en')} records; usually it is ${usual![verb].toLocaleString('en')}.`,
      )
      .join(' ')
  if (over.length === 0) return null
  const does = over.map(([records, verb]) => `${verb} ${records.toLocaleString('en')}`).join(', ')
  return `The run would ${does} of ${sent.toLocaleString('en')} records; without being asked it may ${most.toLocaleString('en')}.`
}

/** As people look at it; closes what was compared. */
export async function foresee(
  sides: SendSides,
  foreseeing: Foreseeing,
  { each, find }: { each: number; find: string },
): Promise<SendForeseen> {
  const began = performance.now()
  const { compared, counts, meets } = await differenceNow(sides, foreseeing)
  try {
    const totals = await foreseeing.state.totals()
    return {
      counts,
      meets,
      reasons: await compared.reasons(),
      asks: guardSays(sides.definition, counts, totals),
      rows: await compared.look(each, find),
      total: compared.rows,
      seconds: (performance.now() - began) / 1000,
    }
  } finally {
    await compared.close()
  }
}
