/** The tables of a database as one side of what is kept in step: their changes come from its journal, and rows are written one by one. */
import type {
  AppRecord,
  Changed,
  ListAsked,
  MakeAsked,
  PlaceSide,
  ToMake,
} from '@tide/connectors/contract/app'
import type { KeyedTable } from '@tide/connectors/contract/records'
import type { RowAnswer, RowOperation, RowSide } from '@tide/connectors/contract/rows'
import type { Session } from '@tide/connectors/contract/session'
import type { AppObject, WriteAnswer, WriteOperation } from '@tide/core/app/object'
import { ROW_VERSION, tableObject } from '@tide/core/app/table-object'
import { canonicalOf, toldAs } from '@tide/core/app/table-values'
import { asFailure, Failure } from '@tide/core/failure'
import { comparePositions } from '@tide/core/position/order'
import type { Position } from '@tide/core/position/position'
import type { Column } from '@tide/core/records/column'
import { datasetId, type Dataset } from '@tide/core/records/dataset'
import { packedValue, type PackedRow } from '@tide/core/records/tuple'
import type { Row } from '@tide/core/records/value'
import { createHash } from 'node:crypto'
import type { FollowedTable } from '../../journal/followed.ts'
import type { JournaledSource } from '../../journal/source.ts'
import { tableToMake } from './table-to-make.ts'

/** Rows that go into one transaction. */
const TOGETHER = 200
const READ_TOGETHER = 500
const EVENTS = 10_000
/** So many changed rows are enough for one pass. */
const MOST_CHANGED = 50_000
const LIST_MS = 3_600_000
/** How long it is waited for news before it is looked whether they are about these tables. */
const NEWS_MS = 30_000

/** Its changes, as the engine reads them. `follower`: the pipeline. */
export interface Journaled {
  source: JournaledSource
  follower: string
}

interface Place {
  object: AppObject
  table: KeyedTable
  /** Where the lane stands that looks at it; null: nothing was read of it yet. */
  at: Position | null
  /** A reading of its own, for lanes stand at different places. */
  source: JournaledSource | undefined
  /** Up to when all its changes were told, in milliseconds; null: that is not known; undefined: nobody has asked for them. */
  heard: number | null | undefined
}

export class TableSide implements PlaceSide {
  readonly name: string
  readonly perMinute = null
  readonly countsCalls = false
  readonly knowsRepeats = true
  readonly webhooks = undefined
  private readonly session: Session
  private readonly rowSide: RowSide
  /** undefined: only what is there now is looked at. */
  private readonly journaled: Journaled | undefined
  private found: Promise<Map<string, Place>> | undefined
  private known: readonly Place[] = []
  private readonly now: () => number
  /** Tables of which the journal was found not to hold what follows. */
  private readonly lost = new Set<string>()

  constructor(
    name: string,
    session: Session,
    rowSide: RowSide,
    now: () => number,
    journaled: Journaled | undefined,
  ) {
    this.name = name
    this.session = session
    this.rowSide = rowSide
    this.now = now
    this.journaled = journaled
  }

  mostTogether(): number {
    return TOGETHER
  }

  async objects(): Promise<AppObject[]> {
    return [...(await this.places()).values()].map(({ object }) => object)
  }

  get makes(): PlaceSide['makes'] {
    return this.session.target ? { inSchemas: true } : undefined
  }

  async toMake(asked: MakeAsked): Promise<ToMake> {
    const { target } = this.session
    if (!target)
      throw new Failure('refused', `No table can be made in ${this.name}.`, 'Choose one that is there.')
    const { into } = asked
    const place = 'place' in into ? await this.placeOf(into.place) : undefined
    const there = place && {
      table: place.table.dataset,
      columns: place.object.fields.map(({ name }) => name),
    }
    const made = tableToMake(asked, there, { target, rowSide: this.rowSide })
    return {
      ...made,
      make: async () => {
        await this.rowSide.make(made.calls)
        this.found = undefined
        return { place: made.place, joins: made.joins, link: made.link }
      },
    }
  }

  async *list(name: string, { signal }: ListAsked): AsyncGenerator<AppRecord[]> {
    const { table } = await this.placeOf(name)
    const limits = { batchRows: READ_TOGETHER, timeoutMs: LIST_MS, signal }
    for await (const rows of this.session.scan!(table, limits)) yield rows.map(row => told(table, row))
  }

  async *changes(
    name: string,
    cursor: string | null,
    signal: AbortSignal,
  ): AsyncGenerator<{ changed: Changed[]; gone?: string[]; anew?: true; cursor?: string | null }> {
    const place = await this.placeOf(name)
    const keyOf = (record: AppRecord) => record[place.object.key]!
    if (cursor !== null && place.source) {
      try {
        const from = JSON.parse(cursor) as Position
        place.at ??= from
        const { keys, at, emptied } = await this.changedKeys(place, place.source, from)
        this.lost.delete(name)
        if (!emptied) {
          yield* this.readChanged(place, keys, signal)
          yield { changed: [], cursor: JSON.stringify(at) }
          return
        }
      } catch (thrown) {
        // What the journal does not hold any more is found by looking at all rows; once.
        if (asFailure(thrown).kind !== 'structural' || this.lost.has(name)) throw thrown
        this.lost.add(name)
      }
    }
    const from = await this.capture(place)
    for await (const records of this.list(name, { signal }))
      yield { changed: records.map(record => ({ id: keyOf(record), record })) }
    yield { changed: [], cursor: from && JSON.stringify(from), ...(cursor === null ? {} : { anew: true }) }
  }

  async taken(name: string, cursor: string): Promise<void> {
    const { journaled } = this
    if (!journaled) return
    const places = await this.places()
    places.get(name)!.at = JSON.parse(cursor) as Position
    const followed = [...places.values()].flatMap(({ at }) => at ?? [])
    const first = followed.reduce((one, at) => (comparePositions(at, one) === 'before' ? at : one))
    await places.get(name)!.source!.acknowledge(journaled.follower, first)
  }

  /** Of the tables that are followed. */
  async news(signal: AbortSignal): Promise<void> {
    const followed = await this.followed()
    if (followed.length === 0) return waitFor(signal)
    for (;;) {
      for (const { place, source, at } of followed) {
        const { pendingChanges } = await source.head([followedTable(place)], place.at ?? at)
        if (pendingChanges > 0 || signal.aborted) return
      }
      const ended = new AbortController()
      const either = AbortSignal.any([signal, ended.signal])
      await Promise.race(followed.map(({ source }) => source.news(NEWS_MS, either)))
      ended.abort()
      if (signal.aborted) return
    }
  }

  completeUpTo(): number | null {
    let first = Infinity
    for (const { heard } of this.known) {
      if (heard === null) return null
      if (heard !== undefined) first = Math.min(first, heard)
    }
    return first === Infinity ? null : first
  }

  async read(name: string, id: string): Promise<AppRecord | undefined> {
    const { table } = await this.placeOf(name)
    const key = keyIn(table, id)
    const [row] = await this.session.rows!(table, [[key]])
    // Where letters of either case are the same, a row with another key may answer.
    return row?.[keyPlace(table)] === key ? told(table, row) : undefined
  }

  async write(
    name: string,
    operations: readonly WriteOperation[],
    { once }: { once: string },
  ): Promise<WriteAnswer[]> {
    const { table } = await this.placeOf(name)
    const answers = await this.rowSide.write(
      table,
      operations.map(one => operationOf(table, one)),
      once,
    )
    return answers.map(answer => answerOf(table, answer))
  }

  subscribe(): Promise<string> {
    throw new Failure('structural', `${this.name} calls nobody.`, 'Its journal is read.')
  }

  async unsubscribe(): Promise<void> {}

  /** The journal keeps nothing for the pipeline any more. */
  async end(): Promise<void> {
    await this.journaled?.source.stopCapture(this.journaled.follower)
  }

  async close(): Promise<void> {
    const places = await this.found?.catch(() => undefined)
    for (const { source } of places?.values() ?? []) await source?.close()
    await this.journaled?.source.close()
  }

  private places(): Promise<Map<string, Place>> {
    this.found ??= this.look().catch((thrown: unknown) => {
      this.found = undefined
      throw thrown
    })
    return this.found
  }

  private async look(): Promise<Map<string, Place>> {
    const { datasets } = await this.session.catalogue()
    const rights = await this.rowSide.rights()
    this.known = datasets.map((dataset): Place => {
      const object = tableObject(dataset, datasets, rights.get(datasetId(dataset)))
      const table: KeyedTable = {
        dataset: { namespace: dataset.namespace, name: dataset.name },
        columns: columnsOf(dataset, object),
        key: dataset.key,
      }
      const source = dataset.notFollowed === undefined ? this.journaled?.source.beside() : undefined
      return { object, table, at: null, source, heard: undefined }
    })
    return new Map(this.known.map(place => [place.object.name, place]))
  }

  private async placeOf(name: string): Promise<Place> {
    const place = (await this.places()).get(name)
    if (place) return place
    throw new Failure(
      'structural',
      `${this.name} has no table ${name} any more.`,
      'Correct the setup, and continue.',
    )
  }

  private async followed() {
    return [...(await this.places()).values()].flatMap(place =>
      place.at && place.source ? [{ place, source: place.source, at: place.at }] : [],
    )
  }

  /** From the returned position on its changes are in the journal; null: nobody tells them, and all rows are looked at each time. */
  private async capture(place: Place): Promise<Position | null> {
    const { journaled } = this
    place.heard = this.now()
    if (!journaled || !place.source) return null
    const others = (await this.followed()).filter(one => one.place !== place)
    const tables = [place, ...others.map(one => one.place)].map(({ table }) => table.dataset)
    const from = await place.source.startCapture(journaled.follower, tables)
    place.at = from
    // What others have still to read is kept for them.
    for (const { source, at } of others)
      if (comparePositions(at, from) === 'before') await source.acknowledge(journaled.follower, at)
    return from
  }

  private async changedKeys(
    place: Place,
    source: JournaledSource,
    from: Position,
  ): Promise<{ keys: Map<string, number>; at: Position; emptied: boolean }> {
    const keys = new Map<string, number>()
    let at = from
    for (;;) {
      const batch = await source.read([followedTable(place)], at, EVENTS)
      at = batch.to
      for (const { events, at: when } of batch.transactions) {
        const committed = Date.parse(when)
        const tell = (row: PackedRow) => {
          const key = packedValue(row, 0)
          if (typeof key === 'string') keys.set(key, committed)
        }
        for (const event of events) {
          if (event.op === 'truncate') return { keys, at, emptied: true }
          if ('before' in event) tell(event.before)
          if ('after' in event) tell(event.after)
        }
      }
      if (!batch.complete) continue
      const { completeUpTo } = batch.head
      const isAll = batch.transactions.length === 0
      if (!isAll && keys.size < MOST_CHANGED) continue
      place.heard = isAll && completeUpTo !== null ? Date.parse(completeUpTo) : null
      return { keys, at, emptied: false }
    }
  }

  private async *readChanged(
    { object, table }: Place,
    keys: ReadonlyMap<string, number>,
    signal: AbortSignal,
  ): AsyncGenerator<{ changed: Changed[]; gone: string[] }> {
    const all = [...keys.keys()]
    for (let at = 0; at < all.length; at += READ_TOGETHER) {
      if (signal.aborted) throw signal.reason
      const some = all.slice(at, at + READ_TOGETHER)
      const rows = await this.session.rows!(
        table,
        some.map(key => [key]),
      )
      const there = new Set<string>()
      const changed = rows.map(row => {
        const key = row[keyPlace(table)]!
        there.add(key)
        const record = told(table, row)
        const when = keys.get(key)
        return { id: record[object.key]!, record, ...(when === undefined ? {} : { at: when }) }
      })
      const { type } = table.columns[keyPlace(table)]!
      yield { changed, gone: some.filter(key => !there.has(key)).map(key => toldAs(key, type)!) }
    }
  }
}

/** Those that an app would tell of. */
function columnsOf({ fields }: Dataset, { fields: told }: AppObject): Column[] {
  const names = new Set(told.map(({ name }) => name))
  return fields
    .filter(({ name }) => names.has(name))
    .map(({ name, type, nativeType, nullable }) => ({ name, type, nativeType, nullable }))
}

function keyPlace({ columns, key }: KeyedTable): number {
  return columns.findIndex(({ name }) => name === key[0])
}

/** The key of a row as its database says it. */
function keyIn(table: KeyedTable, id: string): string {
  return canonicalOf(id, table.columns[keyPlace(table)]!.type)!
}

/** Of its changes nothing is read but which rows they are about. */
function followedTable({ table }: Place): FollowedTable {
  const { columns, key, dataset } = table
  return {
    dataset,
    key,
    columns: [columns[keyPlace(table)]!],
    since: null,
    leftOut: 'whatever else',
  }
}

/** A row as an app would tell it, with what tells it from what it was before. */
function told(table: KeyedTable, row: Row): AppRecord {
  const record: AppRecord = Object.fromEntries(
    table.columns.map(({ name, type }, i) => [name, toldAs(row[i] ?? null, type)]),
  )
  record[ROW_VERSION] = versionOf(row)
  return record
}

function versionOf(row: Row): string {
  return createHash('sha256').update(JSON.stringify(row)).digest('base64url').slice(0, 22)
}

function operationOf(table: KeyedTable, operation: WriteOperation): RowOperation {
  const values = Object.fromEntries(
    Object.entries(operation.values).map(([name, value]) => {
      const column = table.columns.find(one => one.name === name)
      return [name, column ? canonicalOf(value, column.type) : value]
    }),
  )
  if (operation.op === 'create') return { op: 'create', values }
  if (operation.op === 'remove') return { op: 'remove', key: keyIn(table, operation.id) }
  const { version } = operation
  return {
    op: 'change',
    key: keyIn(table, operation.id),
    values,
    ...(version === undefined ? {} : { isAsSeen: (row: Row) => versionOf(row) === version }),
  }
}

function answerOf(table: KeyedTable, answer: RowAnswer): WriteAnswer {
  if (answer.answer !== 'done') return answer
  const { key, row } = answer
  return {
    answer: 'done',
    id: toldAs(key, table.columns[keyPlace(table)]!.type),
    ...(row ? { record: told(table, row) } : {}),
  }
}

function waitFor(signal: AbortSignal): Promise<void> {
  return new Promise(resolve => {
    signal.addEventListener('abort', () => resolve(), { once: true })
    if (signal.aborted) resolve()
  })
}
