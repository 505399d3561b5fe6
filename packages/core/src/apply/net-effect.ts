/**
 * What a run of source transactions comes to, per key. Applying the net effect leaves the same rows as applying
 * the events one by one, given that keys are unique after every single event (the key is not deferrable).
 */
import type { ChangeEvent } from '../records/change.ts'
import { keyOf, keyText, type Key, type Row, type Value } from '../records/value.ts'

/** A row as it stands in the end. Values that were never sent come from the target's present row of key `from`. */
export interface Put {
  key: Key
  row: Row
  from?: Key
}

export interface NetEffect {
  /** The lane's rows go first, all of them. */
  truncate: boolean
  /** Keys of which no row is left. */
  removed: Key[]
  puts: Put[]
  /** Every put was inserted and nothing else happened: a target that missed nothing has none of the keys. */
  fresh?: boolean
}

export interface OperationCounts {
  inserted: number
  updated: number
  deleted: number
}

type State = { key: Key; row?: Row; from?: Key }

/** Folds one lane's events, in order, into their net effect. */
export class NetEffectFold {
  readonly counts: OperationCounts = { inserted: 0, updated: 0, deleted: 0 }
  private truncate = false
  private fresh = true
  private states = new Map<string, State>()
  private readonly keyIndexes: readonly number[]

  /** `keyIndexes`: where the key's columns are in the rows. */
  constructor(keyIndexes: readonly number[]) {
    this.keyIndexes = keyIndexes
  }

  /** Keys touched so far: what the fold holds in memory. */
  get size(): number {
    return this.states.size
  }

  add(event: ChangeEvent): void {
    switch (event.op) {
      case 'insert':
        this.counts.inserted++
        return this.insert(event.after)
      case 'update':
        this.counts.updated++
        return this.update(event.before, event.after)
      case 'delete':
        this.counts.deleted++
        return this.remove(keyOf(event.before, this.keyIndexes))
      case 'truncate':
        this.truncate = this.fresh = true
        this.states.clear()
    }
  }

  result(): NetEffect {
    const removed: Key[] = []
    const puts: Put[] = []
    for (const state of this.states.values()) {
      if (state.row)
        puts.push({ key: state.key, row: state.row, ...(state.from ? { from: state.from } : {}) })
      else removed.push(state.key)
    }
    return { truncate: this.truncate, removed, puts, ...(this.fresh ? { fresh: true } : {}) }
  }

  private insert(row: Row): void {
    const keys = this.states.size
    this.put({ key: keyOf(row, this.keyIndexes), row })
    if (this.states.size === keys || row.includes(undefined)) this.fresh = false
  }

  private put(state: State): void {
    this.states.set(keyText(state.key), state)
  }

  private remove(key: Key): void {
    this.fresh = false
    this.states.set(keyText(key), { key })
  }

  private update(before: Row, after: Row): void {
    this.fresh = false
    const oldKey = keyOf(before, this.keyIndexes)
    const known = this.states.get(keyText(oldKey))
    const row = known?.row ? fill(after, known.row) : after
    const newKey = keyOf(row.map((value, i) => value ?? before[i]) as Row, this.keyIndexes)
    const from = row.includes(undefined) ? (known?.from ?? oldKey) : undefined
    if (keyText(oldKey) !== keyText(newKey)) this.remove(oldKey)
    this.put({ key: newKey, row: withKey(row, this.keyIndexes, newKey), ...(from ? { from } : {}) })
  }
}

/** `row` with what was not sent taken from `earlier`, where that has it. */
function fill(row: Row, earlier: Row): Row {
  return row.includes(undefined)
    ? row.map((value, i): Value => (value === undefined ? earlier[i] : value))
    : row
}

function withKey(row: Row, keyIndexes: readonly number[], key: Key): Row {
  if (keyIndexes.every(index => row[index] !== undefined)) return row
  const filled = [...row]
  keyIndexes.forEach((index, i) => (filled[index] = key[i]))
  return filled
}
