/** What connectors tell people about a system. */
import type { Dataset } from '../records/dataset.ts'

/** One item of a test. */
export interface CheckItem {
  what: string
  result: 'ok' | 'warning' | 'failed'
  /** What alone it is needed for; absent: for all that is done with the system. */
  for?: 'following' | 'asking'
  found: string
  /** What to do about it; `paste` is the exact text where there is one. */
  remedy?: string
  paste?: string
}

export interface Catalogue {
  schemas: string[]
  datasets: Dataset[]
}

/** Values as text for people to read. */
export interface Grid {
  columns: { name: string; type: string }[]
  rows: (string | null)[][]
  /** All the rows there are, where `rows` was cut; `null` when counting them took too long. */
  total: number | null
  /** Which limit the rows were cut at, or a value was; `null`: all is there. */
  cut: 'rows' | 'bytes' | null
  milliseconds: number
}

/** A question on its way: how many wait before it, or that its turn has come. */
export interface QuestionTurn {
  ahead: number
  running: boolean
}
