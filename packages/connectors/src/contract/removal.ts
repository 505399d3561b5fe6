/** Taking rows away from a source, such as those that are archived. */
import type { DatasetName } from '@tide/core/records/dataset'
import type { OrderedTable } from './records.ts'

export interface Removal {
  /** Fails structurally where more would go with a table's rows; `unheard`: or where it would be heard of. */
  inspect(table: DatasetName, unheard: boolean): Promise<void>
  /**
   * Deletes those of these rows that stand as they are given, every value of them, and that no other row refers to; some thousands in
   * each transaction. `lines`: as `Session.ordered` gives them of this table. `unheard`: who follows the source here is not told. Returns how many are
   * gone.
   */
  remove(table: OrderedTable, lines: Uint8Array, unheard: boolean): Promise<number>
}

/** So many go in one transaction, which locks them for so long. */
export const REMOVED_TOGETHER = 5_000
