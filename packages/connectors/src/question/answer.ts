/** The rows of an answer as they come in, up to its limits. */
import type { Grid } from '@tide/core/api/browse'
import type { QueryLimits } from '../contract/session.ts'
import { tooLarge } from './refusal.ts'

export class Answer {
  private readonly limits: QueryLimits
  private readonly rows: Grid['rows'] = []
  private readonly began = performance.now()
  private bytes = 0
  private cut: Grid['cut'] = null

  constructor(limits: QueryLimits) {
    this.limits = limits
  }

  /** No more is needed. */
  get full(): boolean {
    return this.cut !== null
  }

  add(row: Grid['rows'][number]): void {
    if (this.full) return
    if (this.rows.length === this.limits.maxRows) return void (this.cut = 'rows')
    for (const value of row) this.bytes += value?.length ?? 1
    if (this.bytes > this.limits.maxBytes) return this.cutAtBytes()
    this.rows.push(row)
  }

  /** More came in than may. */
  cutAtBytes(): void {
    if (this.rows.length === 0) throw tooLarge(this.limits)
    this.cut = 'bytes'
  }

  grid(columns: Grid['columns']): Grid {
    const { rows, cut } = this
    return {
      columns,
      rows,
      cut,
      total: cut ? null : rows.length,
      milliseconds: performance.now() - this.began,
    }
  }
}
