/**
 * What a run of source transactions comes to, per key of the source. Applying that leaves the same rows as applying
 * the events one by one, given that keys are unique after every single event (the key is not deferrable).
 */
import type { ChangeEvent, SourceTransaction } from '../records/change.ts'
import {
  filledRow,
  isPartial,
  packedKey,
  packedValue,
  packRow,
  rowEnd,
  unpackRow,
  type PackedRow,
} from '../records/tuple.ts'
import { keyText, type Key } from '../records/value.ts'
import type { OperationCounts } from './net-effect.ts'

/** One key, after all that happened to it. */
export interface FoldedKey {
  /** The source's own. */
  identity: Key
  /** The row as it stands in the end; undefined: there is none. */
  after: PackedRow | undefined
  /** The key of the row, as it was before, that has the values which were never sent. */
  from: Key | undefined
  /** The row before the first of the changes, as far as the source has told it; undefined: nothing of it. */
  before: PackedRow | undefined
  /** Where asked for: the row at every moment that was told, so that nothing stays under a key it had for a while. */
  images: PackedRow[] | undefined
  /** Not all that was asked for of the row before was told. */
  untold: boolean
  /** The last change: the transaction it came with, its number there, and what it was. */
  transaction: SourceTransaction
  number: number
  /** `copy`: the row came with the copy of its table. */
  op: ChangeEvent['op'] | 'copy'
}

type Last = Pick<FoldedKey, 'transaction' | 'number' | 'op'>

const sizeOf = ({ bytes, at }: PackedRow) => rowEnd(bytes, at) - at

/** Counts one lane's events, in order. */
export class EventCount {
  readonly counts: OperationCounts = { inserted: 0, updated: 0, deleted: 0, truncated: 0, bytes: 0 }
  /** All rows went first. */
  truncate = false
  truncatedAt: string | undefined
  /** Every key was inserted and nothing else happened. */
  fresh = true

  get keys(): Iterable<FoldedKey> {
    return []
  }

  add(event: ChangeEvent, transaction: SourceTransaction): void {
    switch (event.op) {
      case 'insert':
        this.counts.inserted++
        this.counts.bytes += sizeOf(event.after)
        return
      case 'update':
        this.counts.updated++
        this.counts.bytes += sizeOf(event.after)
        this.fresh = false
        return
      case 'delete':
        this.counts.deleted++
        this.counts.bytes += sizeOf(event.before)
        this.fresh = false
        return
      case 'truncate':
        this.counts.truncated++
        this.truncate = this.fresh = true
        this.truncatedAt = transaction.at
    }
  }
}

/** Folds one lane's events, in order. */
export class IdentityFold extends EventCount {
  private readonly states = new Map<string, FoldedKey>()
  private readonly keyIndexes: readonly number[]
  private readonly imagesOf: readonly number[] | undefined

  /**
   * `keyIndexes`: where the key's columns are in the rows. `imagesOf`: images are asked for, and these columns of them beside
   * the key's.
   */
  constructor(keyIndexes: readonly number[], imagesOf?: readonly number[]) {
    super()
    this.keyIndexes = keyIndexes
    this.imagesOf = imagesOf
  }

  override get keys(): Iterable<FoldedKey> {
    return this.states.values()
  }

  override add(event: ChangeEvent, transaction: SourceTransaction): void {
    super.add(event, transaction)
    const { number, op } = event
    const last: Last = { transaction, number, op }
    switch (event.op) {
      case 'insert':
        return this.insert(event.after, last)
      case 'update':
        return this.update(event.before, event.after, last)
      case 'delete':
        return this.remove(packedKey(event.before, this.keyIndexes), event.before, last)
      case 'truncate':
        this.states.clear()
    }
  }

  private insert(after: PackedRow, last: Last): void {
    const identity = packedKey(after, this.keyIndexes)
    const text = keyText(identity)
    const known = this.states.get(text)
    if (known) this.fresh = false
    this.set(text, identity, after, undefined, known?.before, undefined, last)
  }

  private remove(identity: Key, before: PackedRow | undefined, last: Last): void {
    const text = keyText(identity)
    const known = this.states.get(text)
    this.set(text, identity, undefined, undefined, known ? known.before : before, before, last, true)
  }

  private update(before: PackedRow, sent: PackedRow, last: Last): void {
    const told = before === sent ? undefined : before
    const oldKey = packedKey(before, this.keyIndexes)
    const oldText = keyText(oldKey)
    const known = this.states.get(oldText)
    let row = sent
    let partial = isPartial(sent)
    if (partial && known?.after) {
      row = filledRow(sent, known.after)
      partial = isPartial(row)
    }
    const from = partial ? (known?.from ?? oldKey) : undefined
    const newKey = told ? packedKey(row, this.keyIndexes, told) : oldKey
    const newText = told ? keyText(newKey) : oldText
    if (partial) row = withKey(row, this.keyIndexes, newKey)
    if (oldText === newText) {
      this.set(newText, newKey, row, from, known ? known.before : told, told, last, true)
      return
    }
    this.remove(oldKey, told, last)
    this.set(newText, newKey, row, from, this.states.get(newText)?.before, undefined, last)
  }

  /** `stood`: the row was there before the change. */
  private set(
    text: string,
    identity: Key,
    after: PackedRow | undefined,
    from: Key | undefined,
    before: PackedRow | undefined,
    told: PackedRow | undefined,
    { transaction, number, op }: Last,
    stood = false,
  ): void {
    const images = this.imagesOf ? this.withImages(text, told, after) : undefined
    const untold = this.states.get(text)?.untold === true || (stood && this.isUntold(text, told))
    this.states.set(text, { identity, after, from, before, images, untold, transaction, number, op })
  }

  /** How a row stood before is known from the change, or from those before it in this fold. */
  private isUntold(text: string, told: PackedRow | undefined): boolean {
    const unknown = (row: PackedRow | undefined) =>
      row === undefined || this.imagesOf!.some(index => packedValue(row, index) === undefined)
    return (
      this.imagesOf !== undefined &&
      this.imagesOf.length > 0 &&
      unknown(told) &&
      unknown(this.states.get(text)?.after)
    )
  }

  private withImages(text: string, ...more: (PackedRow | undefined)[]): PackedRow[] {
    const images = this.states.get(text)?.images ?? []
    for (const image of more) if (image) images.push(image)
    return images
  }
}

/** A key column is sent with every change, if need be in the row before. */
function withKey(row: PackedRow, keyIndexes: readonly number[], key: Key): PackedRow {
  if (keyIndexes.every(index => packedValue(row, index) !== undefined)) return row
  const filled = unpackRow(row)
  keyIndexes.forEach((index, i) => (filled[index] = key[i]))
  return packRow(filled)
}
