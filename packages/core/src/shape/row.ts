/** How the row of a lane becomes a row at the target: pure, once for each key that changes were folded to. */
import type { FoldedKey } from '../apply/fold.ts'
import type { Put } from '../apply/net-effect.ts'
import { takenFrom, type Lane, type WrittenColumn } from '../plan/lane.ts'
import { isPartial, packedValue, packRow, pickedRow, unpackRow, type PackedRow } from '../records/tuple.ts'
import { keyText, type Key, type Value } from '../records/value.ts'

/** A target column that a row does not fit into. */
export interface Misfit {
  column: string
  reason: string
}

export type Shaped =
  /** `removed`: keys at the target under which the row is not, or no longer. */
  | { removed: Key[]; put?: Put }
  /** Values that were not sent and cannot come from the target: columns of the source. */
  | { needs: string[] }
  | { misfit: Misfit }

export interface LaneShaper {
  /** The key at the target says just what the source's own does. */
  keyIsIdentity: boolean
  shape(state: FoldedKey): Shaped
}

/** `origin`: the tag of the origin that the rows are of. */
export function laneShaper({ reads, identity, writes, key }: Lane, origin: string): LaneShaper {
  const indexOf = (column: string) => reads.findIndex(({ name }) => name === column)
  const taken = writes.map(column => {
    const name = takenFrom(column)
    return name === undefined ? -1 : indexOf(name)
  })
  const straight = taken.length === reads.length && taken.every((index, i) => index === i)
  const picked = taken.every(index => index >= 0)
  const keyColumns = key.map(name => writes.find(column => column.name === name)!)
  const keySources = keyColumns.map(takenFrom)
  const keyIsIdentity =
    keySources.length === identity.length && keySources.every((name, i) => name === identity[i])
  const needed = reads.filter(({ name }) => keySources.includes(name) && !identity.includes(name))

  const written = (row: PackedRow, state: FoldedKey): PackedRow => {
    if (straight) return row
    if (picked) return pickedRow(row, taken)
    const values = unpackRow(row)
    return packRow(
      writes.map((column, i) => (taken[i]! >= 0 ? values[taken[i]!] : made(column, state, origin))),
    )
  }
  /** Undefined: something that it is made of is not known. */
  const keyAt = (of: Key, row: PackedRow | undefined, state: FoldedKey): (Value | undefined)[] =>
    keyColumns.map((column, i) => {
      const source = keySources[i]
      if (source === undefined) return made(column, state, origin)
      const part = identity.indexOf(source)
      if (part >= 0) return of[part]!
      return row && packedValue(row, indexOf(source))
    })

  const shape = (state: FoldedKey): Shaped => {
    const { after, images, from } = state
    if (keyIsIdentity) {
      if (!after) return { removed: [state.identity] }
      const put: Put = { key: state.identity, identity: state.identity, row: written(after, state) }
      return { removed: [], put: from ? { ...put, from } : put }
    }
    // Under which keys the row may stand at the target.
    const had = (images ?? [])
      .map(image => keyAt(state.identity, image, state))
      .filter((key): key is string[] => key.every(part => part !== null && part !== undefined))
    if (!after) {
      if (had.length > 0) return { removed: had }
      const known = keyAt(state.identity, undefined, state)
      const unknown = known.findIndex(part => part === undefined)
      if (unknown < 0) return { removed: [known as string[]] }
      return { misfit: { column: key[unknown]!, reason: 'the source does not tell what it was before' } }
    }
    // What the target has stands under a key of its own, which the key at the source does not tell.
    if (needed.length > 0 && isPartial(after)) return { needs: needed.map(({ name }) => name) }
    const is = keyAt(state.identity, after, state)
    const missing = is.findIndex(value => value === null || value === undefined)
    if (missing >= 0) return { misfit: { column: key[missing]!, reason: 'it is part of the key, and null' } }
    const now = is as string[]
    const source = from && keyAt(from, undefined, state)
    return {
      removed: had.filter(one => keyText(one) !== keyText(now)),
      put: {
        key: now,
        identity: state.identity,
        row: written(after, state),
        ...(source ? { from: source as string[] } : {}),
      },
    }
  }
  return { keyIsIdentity, shape }
}

/** A value that is taken from no column. */
function made({ value }: WrittenColumn, { op, transaction }: FoldedKey, origin: string): Value {
  switch (value.from) {
    case 'constant':
      return value.value
    case 'origin':
      return origin
    case 'metadata':
      switch (value.what) {
        case 'operation':
          return op
        case 'committed at':
          return transaction.at
        case 'position':
          return transaction.start
      }
  }
  return undefined
}
