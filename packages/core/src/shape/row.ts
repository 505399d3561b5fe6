/** How the row of a lane becomes a row at the target: pure, once for each key that changes were folded to. */
import type { FoldedKey } from '../apply/fold.ts'
import type { Put } from '../apply/net-effect.ts'
import { madeOf, type Lane } from '../plan/lane.ts'
import {
  isPartial,
  madeRow,
  packedValue,
  packRow,
  pickedRow,
  type PackedRow,
  type RowPart,
} from '../records/tuple.ts'
import { oneText } from '../records/same.ts'
import { keyText, type Key, type Value } from '../records/value.ts'
import { predicateAsOf } from '../scope/predicate.ts'
import { NoValue } from '../expression/values.ts'
import { canonicalMoment, madeColumns, stretchesOf, type Coming, type Made, type Shaping } from './written.ts'

/** A target column that a row does not fit into. */
export interface Misfit {
  column: string
  reason: string
  /** It is not known where the row stood, so that it cannot be left there, either. */
  untold?: true
}

export type Shaped =
  /** `removed`: keys at the target under which the row is not, or no longer. */
  | { removed: Key[]; put?: Put }
  /** Values that were not sent and cannot come from the target: columns of the source. `removed`: as above. */
  | { needs: string[]; removed: Key[] }
  | { misfit: Misfit }

export interface LaneShaper {
  /** The key at the target says just what the source's own does. */
  keyIsIdentity: boolean
  /** Rows stay at the target after the source has deleted them, so that a new one may find its key taken. */
  keepsDeleted: boolean
  /** Places of columns of the source that the key at the target is made of, beside those of its own key. */
  keyBeyond: readonly number[]
  /** The same for keys that are equal though they are not printed alike, such as 1.0 and 1.00; undefined: there are none such. */
  keyId: ((key: Key) => string) | undefined
  /** There may be rows at the target that are none of the lane's, so that a new one may find its key taken. */
  findsRows: boolean
  /** `landedAt`: now, by our clock; ISO 8601. */
  shape(state: FoldedKey, landedAt: string): Shaped
  /** What a truncate at the source does to rows that are kept. */
  mark(coming: Pick<Coming, 'committedAt' | 'landedAt'>): { column: string; value: string } | undefined
}

export function laneShaper(lane: Lane, shaping: Shaping): LaneShaper {
  const { reads, identity, writes, key, deletes } = lane
  const indexOf = (column: string) => reads.findIndex(({ name }) => name === column)
  const columns = madeColumns(lane, shaping)
  const picked = columns.every(({ taken }) => taken)
  const places = columns.map(({ places: [place = -1] }) => place)
  const straight = picked && places.length === reads.length && places.every((place, i) => place === i)
  const keyColumns = key.map(name => writes.findIndex(column => column.name === name))
  const keySources = keyColumns.map(i => madeOf(writes[i]!))
  const keyIsIdentity =
    keySources.length === identity.length &&
    keyColumns.every((i, part) => columns[i]!.taken && keySources[part] === identity[part])
  const needed = reads.filter(({ name }) => keySources.includes(name) && !identity.includes(name))
  /** What must be known whole, for something is made of it together with others. */
  const computing = [...new Set(columns.flatMap(({ whole, places }) => (whole ? places : [])))]
  const scope = inScopeOf(lane)

  // One object for all rows: what it makes, it makes of the row that is at hand.
  let now: Coming
  const making = stretchesOf(columns).map((stretch): RowPart =>
    'made' in stretch
      ? { places: stretch.made.places, make: row => valueOf(stretch.made, row, now) }
      : stretch,
  )
  const written = (row: PackedRow, coming: Coming): PackedRow => {
    if (straight) return row
    if (picked) return pickedRow(row, places)
    now = coming
    return madeRow(row, making, columns.length)
  }
  const keyRow: Value[] = []
  /** Undefined: something that it is made of is not known. */
  const keyAt = (of: Key, row: PackedRow | undefined, coming: Coming): (Value | undefined)[] =>
    keyColumns.map((column, i) => {
      const made = columns[column]!
      const source = keySources[i]
      if (source === undefined) return valueOf(made, [], coming)
      const part = identity.indexOf(source)
      const place = indexOf(source)
      keyRow[place] = part >= 0 ? of[part]! : row && packedValue(row, place)
      return valueOf(made, keyRow, coming)
    })
  const whole = (parts: (Value | undefined)[]): parts is string[] =>
    parts.every(part => part !== null && part !== undefined)
  const atKey = (state: FoldedKey, coming: Coming): Key | { misfit: Misfit } => {
    const known = keyIsIdentity ? state.identity : keyAt(state.identity, undefined, coming)
    if (whole(known as Value[])) return known as Key
    const unknown = known.findIndex(part => part === undefined || part === null)
    return { misfit: { ...UNTOLD, column: key[unknown]! } }
  }
  /** Keys under which the row may have stood. */
  const earlier = ({ identity: of, images }: FoldedKey, coming: Coming): Key[] =>
    (images ?? []).map(image => keyAt(of, image, coming)).filter(whole)

  /** The row is not there any more, or not in scope. */
  const gone = (state: FoldedKey, coming: Coming): Shaped => {
    const had = keyIsIdentity ? [] : earlier(state, coming)
    if (had.length > 0) return { removed: had }
    const last = atKey(state, coming)
    return 'misfit' in last ? last : { removed: [last] }
  }
  /** The row stays as it was, but for what it says of its deletion. */
  const marked = (state: FoldedKey, coming: Coming): Shaped => {
    const last = earlier(state, coming).at(-1) ?? atKey(state, coming)
    if ('misfit' in last) return last
    const row = packRow(
      writes.map(({ name, value }, i): Value => {
        const part = key.indexOf(name)
        if (part >= 0) return last[part]!
        return value.from === 'metadata' ? columns[i]!.make([], coming) : undefined
      }),
    )
    return { removed: [], put: { key: last, identity: state.identity, row, from: last } }
  }

  const shape = (state: FoldedKey, landedAt: string): Shaped => {
    try {
      return shaped(state, landedAt)
    } catch (thrown) {
      if (thrown instanceof NoValueFor) return { misfit: { column: thrown.column, reason: thrown.message } }
      throw thrown
    }
  }
  const shaped = (state: FoldedKey, landedAt: string): Shaped => {
    const { after, from, op, transaction, untold } = state
    if (untold) return { misfit: UNTOLD }
    const committedAt = op === 'copy' ? null : transaction.at
    const position = op === 'copy' && transaction.start === '' ? null : transaction.start
    const coming: Coming = { op, committedAt, position, landedAt }
    if (!after) {
      // Of a row that moved to another key nothing is kept: that is the same row still.
      if (op !== 'delete' || deletes === undefined) return gone(state, coming)
      return deletes === 'keep' ? { removed: [] } : marked(state, coming)
    }
    const needing = (needs: string[]): Shaped => ({
      needs,
      removed: keyIsIdentity ? [] : earlier(state, coming),
    })
    const truth = scope?.(after, landedAt)
    if (Array.isArray(truth)) return needing(truth)
    if (truth === false) return gone(state, coming)
    if (computing.length > 0 && isPartial(after)) {
      const unsent = computing.filter(place => packedValue(after, place) === undefined)
      if (unsent.length > 0) return needing(unsent.map(place => reads[place]!.name))
    }
    if (keyIsIdentity) {
      const put: Put = { key: state.identity, identity: state.identity, row: written(after, coming) }
      return { removed: [], put: from ? { ...put, from } : put }
    }
    // What the target has stands under a key of its own, which the key at the source does not tell.
    if (needed.length > 0 && isPartial(after)) return needing(needed.map(({ name }) => name))
    const is = keyAt(state.identity, after, coming)
    const missing = is.findIndex(value => value === null || value === undefined)
    if (missing >= 0) return { misfit: { column: key[missing]!, reason: 'it is part of the key, and null' } }
    const stands = is as string[]
    const source = from && keyAt(from, undefined, coming)
    return {
      removed: earlier(state, coming).filter(one => keyText(one) !== keyText(stands)),
      put: {
        key: stands,
        identity: state.identity,
        row: written(after, coming),
        ...(source ? { from: source as string[] } : {}),
      },
    }
  }
  const mark: LaneShaper['mark'] = ({ committedAt, landedAt }) => {
    const column = writes.find(({ value }) => value.from === 'metadata' && value.what === 'deleted at')
    return column && { column: column.name, value: canonicalMoment(committedAt ?? landedAt)! }
  }
  return {
    keyIsIdentity,
    keepsDeleted: deletes !== undefined,
    keyBeyond: needed.map(({ name }) => indexOf(name)),
    keyId: keyIdOf(lane),
    findsRows: lane.there !== undefined,
    shape,
    mark,
  }
}

const PRINTED_IN_SEVERAL_WAYS = new Set(['decimal', 'float', 'interval', 'list'])

function keyIdOf({ key, writes }: Lane): LaneShaper['keyId'] {
  const types = key.map(name => writes.find(column => column.name === name)!.type)
  if (!types.some(({ kind }) => PRINTED_IN_SEVERAL_WAYS.has(kind))) return undefined
  return one => keyText(one.map((part, i) => oneText(part, types[i]!)))
}

const UNTOLD: Misfit = {
  column: 'the key',
  reason: 'the source does not tell what it was before',
  untold: true,
}

/** A column that no value can be made for. */
class NoValueFor extends Error {
  readonly column: string

  constructor(column: string, reason: string) {
    super(reason)
    this.column = column
  }
}

function valueOf({ name, make }: Made, row: readonly Value[], coming: Coming): Value {
  try {
    return make(row, coming)
  } catch (thrown) {
    throw thrown instanceof NoValue ? new NoValueFor(name, thrown.message) : thrown
  }
}

/** Whether a row takes part, or the columns that must be known to say so; undefined: all rows do. */
function inScopeOf({
  scope,
  reads,
}: Lane): ((row: PackedRow, now: string) => boolean | string[]) | undefined {
  if (scope === null) return undefined
  const predicateAt = predicateAsOf(scope, reads)
  const { columns } = predicateAt('2000-01-01T00:00:00.000Z')
  const places = columns.map(column => reads.findIndex(({ name }) => name === column))
  const values = new Array<Value>(reads.length)
  return (row, now) => {
    let unsent: string[] | undefined
    for (let i = 0; i < places.length; i++) {
      const value = (values[places[i]!] = packedValue(row, places[i]!))
      if (value === undefined) (unsent ??= []).push(columns[i]!)
    }
    if (unsent) return unsent
    try {
      return predicateAt(now).test(values) === true
    } catch (thrown) {
      throw thrown instanceof NoValue ? new NoValueFor('its scope', thrown.message) : thrown
    }
  }
}
