/** Held records: rows that a target would not take, kept with the reason until they stand there, or somebody drops them. */
import type { Lane } from '../plan/lane.ts'
import type { Key, Value } from '../records/value.ts'

/**
 * `open`: the target has another row under this key than it should, or none · `superseded`: a later change of the row has landed ·
 * `landed`: it was tried again · `corrected`: it landed with values that a person gave · `dropped`: a person let it be; the row
 * at the target is known to differ until a later change of it lands.
 */
export type HeldState = 'open' | 'superseded' | 'landed' | 'corrected' | 'dropped'

export interface HeldRecord {
  id: number
  /** The record that engines run. */
  pipeline: string
  /** `datasetId` of the table at the source. */
  table: string
  /** The source's own key, whole. */
  identity: Key
  /** The same as it may be told. */
  told: string[]
  op: 'put' | 'remove'
  /** Where the transaction stands, and the change's number in it; of a row that was copied or read, its place then. */
  position: string
  number: number
  committedAt: string | null
  /** By column of the source, as far as it may be told and was sent. */
  source: Record<string, string | null>
  /** By column of the target; null where no such row could be made. */
  shaped: Record<string, string | null> | null
  /** Of the target, where one is to blame. */
  column: string | null
  /** What would not do, in words; the target's own where they are its. */
  reason: string
  remedy: string
  heldAt: string
  state: HeldState
  closedAt: string | null
  /** What a person has said when closing it. */
  note: string | null
}

/** A held record before it is kept. */
export type Held = Omit<HeldRecord, 'id' | 'state' | 'closedAt' | 'note'>

/** What people do with held records: try them as the rows stand at the source now, with values of their own, or let them be. */
export type HeldDeed =
  | { deed: 'retry'; ids: number[] }
  | { deed: 'correct'; ids: number[]; values: Record<string, string | null> }
  | { deed: 'drop'; ids: number[]; note: string }

const TOLD_CHARACTERS = 2_000

/** A row by its columns' names, without what may not be told: columns that reach the target masked, or not at all. */
export function toldSource(
  { reads, writes }: Pick<Lane, 'reads' | 'writes'>,
  row: readonly Value[],
): Record<string, string | null> {
  return Object.fromEntries(
    reads.flatMap(({ name }, i) => {
      const value = row[i]
      const told = writes.some(
        ({ value }) => 'column' in value && value.column === name && value.from !== 'masked',
      )
      return told && value !== undefined ? [[name, toldValue(value)]] : []
    }),
  )
}

/** A row at the target by its columns' names; what was not sent is left out. */
export function toldShaped(
  { writes }: Pick<Lane, 'writes'>,
  row: readonly Value[],
): Record<string, string | null> {
  return Object.fromEntries(
    writes.flatMap(({ name }, i) => {
      const value = row[i]
      return value === undefined ? [] : [[name, toldValue(value)]]
    }),
  )
}

/** As it can be kept and shown: not all of what is long, and without what no database takes. */
export function toldValue(value: string | null): string | null {
  if (value === null) return null
  const text = value.replaceAll('\0', '\\0')
  return text.length > TOLD_CHARACTERS ? `${text.slice(0, TOLD_CHARACTERS)}…` : text
}

/** The same for records of one cause: values and numbers in a message are those of one row. */
export function causeOf({ column, reason }: Pick<HeldRecord, 'column' | 'reason'>): string {
  const said = reason
    .replace(/"[^"]*"|'[^']*'|“[^”]*”|\([^()]*\)/g, '…')
    .replace(/the value .*? does not fit/s, 'the value … does not fit')
    .replace(/, in the row with .*$/s, '')
    .replace(/\d+(?:[.,]\d+)*/g, '…')
  return `${column ?? ''} ${said}`.slice(0, 300)
}
