/** What a lane's changes leave in its history table: a row for each, as far as the source tells of it. */
import type { TargetLane } from '@tide/connectors/contract/target'
import { NoValue } from '@tide/core/expression/values'
import type { HistoryColumn, Lane } from '@tide/core/plan/lane'
import type { ChangeEvent, SourceTransaction } from '@tide/core/records/change'
import {
  isPartial,
  packRow,
  unpackRow,
  writePicked,
  type PackedRow,
  type RowPack,
  type RowWriter,
} from '@tide/core/records/tuple'
import type { Value } from '@tide/core/records/value'
import { predicateAsOf } from '@tide/core/scope/predicate'
import { canonicalMoment, madeColumns, type Shaping } from '@tide/core/shape/written'

export interface LaneHistory {
  target: TargetLane
  /** Undefined: the change is of rows that do not take part. */
  row(
    event: ChangeEvent,
    transaction: SourceTransaction,
    landedAt: string,
    pack: RowPack,
  ): PackedRow | undefined
}

/** One side of a change: values by column, undefined where not told; null: no such row. */
type Image = Map<string, Value> | null

export function laneHistory(plan: Lane, shaping: Shaping): LaneHistory | undefined {
  const { history, writes, reads, scope } = plan
  if (!history) return undefined
  const made = madeColumns(plan, shaping)
  const wanted = new Set(history.columns.flatMap(({ value }) => ('column' in value ? [value.column] : [])))
  const columns = writes.flatMap(({ name }, i) => (wanted.has(name) ? [{ name, made: made[i]! }] : []))
  const predicateAt = scope && predicateAsOf(scope, reads)
  /** Undefined: what decides it was not sent. */
  const takesPart = (row: readonly Value[], at: string): boolean | undefined => {
    if (!predicateAt) return true
    const predicate = predicateAt(at)
    if (predicate.columns.some(name => row[reads.findIndex(column => column.name === name)] === undefined))
      return undefined
    try {
      return predicate.test(row) === true
    } catch (thrown) {
      // Whether it takes part cannot be said: then it is not told.
      if (thrown instanceof NoValue) return false
      throw thrown
    }
  }
  /** `whole`: false where it is not known whether the row takes part, so that no more than its key is told. */
  const imageOf = (
    row: readonly Value[],
    whole: boolean,
    op: ChangeEvent['op'],
    transaction: SourceTransaction,
    landedAt: string,
  ): Image => {
    const coming = { op, committedAt: transaction.at, position: transaction.start, landedAt }
    const values = new Map<string, Value>()
    for (const { name, made } of columns) {
      if (!whole && !plan.key.includes(name)) continue
      try {
        const known = !made.whole || made.places.every(place => row[place] !== undefined)
        values.set(name, known ? made.make(row, coming) : undefined)
      } catch (thrown) {
        if (!(thrown instanceof NoValue)) throw thrown
        values.set(name, undefined)
      }
    }
    return values
  }
  // What is taken as it is passes as the bytes it is; `history.columns` has what is said of a change first, then both sides.
  const placesOf = (side: 'before' | 'after') =>
    history.columns.flatMap(({ value }) =>
      value.from === side ? [columns.find(({ name }) => name === value.column)!.made.places[0]!] : [],
    )
  const [placesBefore, placesAfter] = [placesOf('before'), placesOf('after')]
  const beforeFirst = history.columns.findIndex(({ value }) => value.from === 'before')
  const afterFirst = history.columns.findIndex(({ value }) => value.from === 'after')
  const straight = !predicateAt && columns.every(({ made }) => made.taken)
  const abouts = history.columns.flatMap(({ value }) =>
    value.from === 'before' || value.from === 'after' ? [] : [value.from],
  )
  const side = (writer: RowWriter, row: PackedRow | undefined, places: readonly number[]): void => {
    if (row) writePicked(writer, row, places)
    else for (let i = 0; i < places.length; i++) writer.null()
  }
  const told = (
    event: ChangeEvent,
    transaction: SourceTransaction,
    landedAt: string,
    pack: RowPack,
  ): PackedRow | undefined => {
    if (!straight || event.op === 'truncate') return undefined
    const before = event.op === 'insert' ? undefined : event.before
    const after = event.op === 'delete' ? undefined : event.after
    if (before === after || (before && isPartial(before)) || (after && isPartial(after))) return undefined
    return pack.row(writer => {
      writer.begin(history.columns.length)
      for (const from of abouts) {
        const value = about(from, event.op, event, transaction, landedAt, shaping.origin)
        if (typeof value === 'string') writer.text(value)
        else writer.null()
      }
      if (beforeFirst < afterFirst) side(writer, before, placesBefore)
      side(writer, after, placesAfter)
      if (beforeFirst > afterFirst) side(writer, before, placesBefore)
    })
  }
  return {
    target: {
      table: history.table,
      columns: history.columns,
      key: plan.files ? plan.key : [],
      ...(plan.files?.as === 'changes' ? { files: plan.files, changes: history.columns } : {}),
    },
    row: (event, transaction, landedAt, pack) => {
      const whole = told(event, transaction, landedAt, pack)
      if (whole) return whole
      const rows = rowsOf(event)
      const parts = [rows.before, rows.after].map(row => row !== null && takesPart(row, landedAt))
      const [took, is] = parts.map(part => part !== false)
      // In files, a row that was not told before and does not take part now may have been there: it goes.
      const mayGo = plan.files !== undefined && event.op === 'update' && !rows.toldBefore && !is
      const was = took || mayGo
      if (event.op !== 'truncate' && !was && !is) return undefined
      // Where nothing is told of the row before, it cannot be said to have been outside.
      const outside = predicateAt !== null && (rows.toldBefore || mayGo)
      const operation =
        event.op !== 'update' || was === is || !outside ? event.op : is ? 'into scope' : 'out of scope'
      const before =
        was && (rows.toldBefore || mayGo)
          ? imageOf(rows.before!, parts[0] === true, event.op, transaction, landedAt)
          : null
      const after = is ? imageOf(rows.after!, parts[1] === true, event.op, transaction, landedAt) : null
      const untold: string[] = []
      // In files, the key that it had says whether it was told.
      if (event.op === 'update' && was && !rows.toldBefore && !plan.files) untold.push('before')
      const values = history.columns.map((column): Value => {
        const { value, name } = column
        if (value.from !== 'before' && value.from !== 'after')
          return about(value.from, operation, event, transaction, landedAt, shaping.origin)
        const image = value.from === 'before' ? before : after
        const found = image?.get(value.column)
        if (image && found === undefined) untold.push(name)
        return found ?? null
      })
      const place = history.columns.findIndex(({ value }) => value.from === 'not told')
      const said = plan.files ? JSON.stringify(untold) : untold.join(', ')
      values[place] = untold.length > 0 ? said : null
      return packRow(values)
    },
  }
}

function rowsOf(event: ChangeEvent): {
  before: Value[] | null
  after: Value[] | null
  /** More is known of the row before than that there was one. */
  toldBefore: boolean
} {
  switch (event.op) {
    case 'truncate':
      return { before: null, after: null, toldBefore: false }
    case 'insert':
      return { before: null, after: unpackRow(event.after), toldBefore: false }
    case 'delete':
      return { before: unpackRow(event.before), after: null, toldBefore: true }
    case 'update': {
      const after = unpackRow(event.after)
      if (event.before === event.after) return { before: after, after, toldBefore: false }
      const before = unpackRow(event.before)
      // What was not sent has not changed.
      return {
        before,
        after: after.map((value, i) => (value === undefined ? before[i] : value)),
        toldBefore: true,
      }
    }
  }
}

function about(
  what: Exclude<HistoryColumn['value']['from'], 'before' | 'after'>,
  operation: string,
  event: ChangeEvent,
  { start, at, id }: SourceTransaction,
  landedAt: string,
  origin: string,
): Value {
  switch (what) {
    case 'position':
      return start
    case 'number':
      return String(event.number)
    case 'operation':
      return operation
    case 'committed at':
      return canonicalMoment(at)
    case 'landed at':
      return canonicalMoment(landedAt)
    case 'transaction':
      return id
    case 'origin':
      return origin
    case 'not told':
      return null
  }
}
